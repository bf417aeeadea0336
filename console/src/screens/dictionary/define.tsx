// A definition of one's own: the same fields and checks as the shipped ones. It goes into the open change; a used one shows its impact there.
import { useState, type FormEvent } from 'react';
import { useNavigate, useSearchParams } from 'react-router';
import { chosen, type Setting } from '../../api/client';
import { useAreas, useSettingTypes, useSettingUse } from '../../api/queries';
import { useOpenChange } from '../../ui/change';
import { lines } from '../../ui/shape';
import { Failed, Field, Loading, Page } from '../../ui/parts';
import { count } from '../../ui/words';

type Draft = Partial<Omit<Setting, 'policies' | 'own'>> & { id: string };
const types = ['bool', 'integer', 'text', 'choice', 'list'] as const;

export function DefineScreen() {
  const [params] = useSearchParams();
  const from = params.get('from') ?? '';
  const open = useOpenChange();
  const known = useSettingUse(from, undefined, open.change, from !== '' && (!open.id || !!open.change));
  if (from && !known.data)
    return (
      <Page title="Define a setting">
        <Failed error={known.error} />
        <Loading />
      </Page>
    );
  const d = known.data;
  const begin: Draft = d
    ? (Object.fromEntries(
        Object.entries(d).filter(([k]) => !['policies', 'own', 'elsewhere', 'devices', 'lacking', 'exceptions', 'combines', 'support', '$schema'].includes(k)),
      ) as Draft)
    : { id: '', type: 'bool', kind: 'configuration' };
  return <Form key={from} begin={d && !d.own ? { ...begin, id: `own.${d.id}` } : begin} alters={d?.own ? d : undefined} />;
}

function Form({ begin, alters }: { begin: Draft; alters?: { id: string; policies: string[] } }) {
  const [d, setD] = useState(begin);
  const [error, setError] = useState<unknown>();
  const open = useOpenChange();
  const go = useNavigate();
  const areas = useAreas().data ?? [];
  const set = (part: Partial<Draft>) => setD((was) => ({ ...was, ...part }));
  const type = d.type ?? 'bool';
  const known = useSettingTypes().data?.find((t) => t.type === type);
  const rules = known?.combines ?? [];
  const stricter = known?.stricter ?? [];
  const save = (e: FormEvent) => {
    e.preventDefault();
    const there = open.change?.edits?.find((x) => x.kind === 'settings' && x.id === d.id);
    const plain = Object.fromEntries(Object.entries(d).filter(([, v]) => v !== undefined && v !== '' && !(Array.isArray(v) && v.length === 0)));
    open
      .put('settings', plain as { id: string }, there?.version, `Define ${d.title || d.id}`)
      .then(() => go(`/dictionary/${d.id}`))
      .catch(setError);
  };
  const fixed = type === 'table' || type === 'file';
  return (
    <Page
      title={alters ? `Alter ‘${begin.title || begin.id}’` : 'Define a setting'}
      lead={
        alters
          ? alters.policies.length
            ? `${count(alters.policies.length, 'policy', 'policies')} set it: the open change shows what altering it does.`
            : 'No policy sets it.'
          : 'For what the dictionary does not have: an instrument, a program of your own. People find it by its title, help and further words.'
      }
    >
      <form onSubmit={save} className="sheet grid max-w-4xl grid-cols-[minmax(0,1fr)] gap-4 p-3 sm:p-5 md:grid-cols-2">
        <Field label="Id" hint="area.thing.property, lower case">
          <input
            className="input input-sm w-full font-mono text-[13px]"
            required
            disabled={!!alters}
            placeholder="plotter.keep_awake"
            value={d.id}
            onChange={(e) => set({ id: e.target.value })}
          />
        </Field>
        <Field label="Title">
          <input className="input input-sm w-full" required value={d.title ?? ''} onChange={(e) => set({ title: e.target.value })} />
        </Field>
        <div className="md:col-span-2">
          <Field label="What it does" hint="Two or three sentences: what it does, what a person notices, when to use it">
            <textarea className="textarea textarea-sm w-full" required rows={3} value={d.help ?? ''} onChange={(e) => set({ help: e.target.value })} />
          </Field>
        </div>
        <Field label="Area">
          <input className="input input-sm w-full" list="areas" value={d.area ?? ''} onChange={(e) => set({ area: e.target.value })} />
          <datalist id="areas">
            {areas.map((a) => (
              <option key={a} value={a} />
            ))}
          </datalist>
        </Field>
        <Field label="Further words people search for" hint="One a line">
          <textarea
            className="textarea textarea-sm w-full"
            rows={2}
            defaultValue={d.keywords?.join('\n')}
            onChange={(e) => set({ keywords: lines(e.target.value) })}
          />
        </Field>
        <Choice label="Kind" value={d.kind ?? 'configuration'} options={['configuration', 'security', 'encryption']} onChange={(kind) => set({ kind })} />
        {fixed ? (
          <p className="quiet self-end text-sm">A {type}: its columns or content are kept as they are. Alter those in a file of the estate.</p>
        ) : (
          <Choice
            label="Type"
            value={type}
            options={types}
            onChange={(t) =>
              set({
                type: t,
                combine: undefined,
                stricter: undefined,
                default: undefined,
                options: undefined,
                min: undefined,
                max: undefined,
                measure: undefined,
                pattern: undefined,
                max_length: undefined,
                item_pattern: undefined,
                max_items: undefined,
              })
            }
          />
        )}
        {type === 'choice' && (
          <Field label="Options" hint="One a line; from weakest to strictest where they have an order">
            <textarea
              className="textarea textarea-sm w-full"
              required
              rows={3}
              defaultValue={d.options?.join('\n')}
              onChange={(e) => set({ options: lines(e.target.value) })}
            />
          </Field>
        )}
        {type === 'integer' && (
          <div className="grid grid-cols-3 gap-2">
            <Whole label="Least" value={d.min} onChange={(min) => set({ min })} />
            <Whole label="Most" value={d.max} onChange={(max) => set({ max })} />
            <Field label="Measure">
              <input className="input input-sm w-full" placeholder="minutes" value={d.measure ?? ''} onChange={(e) => set({ measure: e.target.value })} />
            </Field>
          </div>
        )}
        {type === 'text' && (
          <Field label="Pattern" hint="A regular expression that values match; may be left out">
            <input className="input input-sm w-full font-mono text-[13px]" value={d.pattern ?? ''} onChange={(e) => set({ pattern: e.target.value })} />
          </Field>
        )}
        {type === 'list' && (
          <Field label="Pattern of items" hint="A regular expression that each item matches; may be left out">
            <input
              className="input input-sm w-full font-mono text-[13px]"
              value={d.item_pattern ?? ''}
              onChange={(e) => set({ item_pattern: e.target.value })}
            />
          </Field>
        )}
        {!fixed && (
          <Choice
            label="When several policies set it"
            value={d.combine ?? 'closest'}
            options={rules.map((r) => r.rule)}
            words={Object.fromEntries(rules.map((r) => [r.rule, r.text]))}
            onChange={(c) => set({ combine: c, stricter: c === 'strictest' ? stricter[0] : undefined })}
          />
        )}
        {d.combine === 'strictest' && stricter.length > 1 && (
          <Choice
            label="Which is the stricter"
            value={d.stricter ?? ''}
            options={stricter}
            words={{ true: 'on', false: 'off', lower: 'the lower number', higher: 'the higher number' }}
            onChange={(s) => set({ stricter: s })}
          />
        )}
        <Choice
          label="Whose"
          value={d.side ?? 'device'}
          options={['device', 'user']}
          words={{ device: 'the laptop’s', user: 'the person’s who signs in' }}
          onChange={(s) => set({ side: s === 'user' ? 'user' : undefined })}
        />
        <fieldset className="text-sm">
          <legend className="mb-1 font-medium">What a person notices</legend>
          <div className="flex flex-wrap gap-x-4 gap-y-1">
            {(['restart', 'prompt', 'irreversible', 'lockout'] as const).map((effect) => (
              <label key={effect} className="flex items-center gap-1.5">
                <input
                  type="checkbox"
                  className="checkbox checkbox-sm"
                  checked={d.effects?.includes(effect) ?? false}
                  onChange={(e) => set({ effects: e.target.checked ? [...(d.effects ?? []), effect] : d.effects?.filter((x) => x !== effect) })}
                />
                {effect}
              </label>
            ))}
          </div>
        </fieldset>
        <fieldset className="text-sm md:col-span-2">
          <legend className="mb-1 font-medium">Supported by</legend>
          <div className="flex flex-wrap gap-x-6 gap-y-2">
            {(['linux', 'windows', 'macos'] as const).map((platform) => {
              const row = d.supports?.find((s) => s.platform === platform);
              const others = d.supports?.filter((s) => s.platform !== platform) ?? [];
              return (
                <span key={platform} className="flex flex-wrap items-center gap-2">
                  <label className="flex items-center gap-1.5">
                    <input
                      type="checkbox"
                      className="checkbox checkbox-sm"
                      checked={!!row}
                      onChange={(e) => set({ supports: e.target.checked ? [...others, { platform }] : others })}
                    />
                    {platform}
                  </label>
                  {row && (
                    <input
                      aria-label={`${platform} from version`}
                      className="input input-xs w-20"
                      placeholder="from"
                      value={row.from ?? ''}
                      onChange={(e) => set({ supports: [...others, { ...row, from: e.target.value || undefined }] })}
                    />
                  )}
                </span>
              );
            })}
          </div>
          <span className="quiet text-[13px]">None chosen: every platform</span>
        </fieldset>
        <div className="flex flex-col gap-3 md:col-span-2">
          <Failed error={error} />
          <div className="flex flex-wrap items-center gap-3">
            <button type="submit" className="btn btn-primary">
              Put it into the change
            </button>
            <span className="quiet text-sm">{open.change ? `It goes into the open change ‘${open.change.title}’.` : 'A change is opened for it.'}</span>
          </div>
        </div>
      </form>
    </Page>
  );
}

function Choice<T extends string>({
  label,
  value,
  options,
  words,
  onChange,
}: {
  label: string;
  value: T | '';
  options: readonly T[];
  words?: Partial<Record<T, string>>;
  onChange: (v: T | undefined) => void;
}) {
  return (
    <Field label={label}>
      <select className="select select-sm w-full" value={value} onChange={(e) => onChange(chosen(options, e.target.value))}>
        {options.map((o) => (
          <option key={o} value={o}>
            {words?.[o] ?? o}
          </option>
        ))}
      </select>
    </Field>
  );
}

function Whole({ label, value, onChange }: { label: string; value?: number; onChange: (v: number | undefined) => void }) {
  return (
    <Field label={label}>
      <input
        inputMode="numeric"
        className="input input-sm w-full"
        value={value ?? ''}
        onChange={(e) => onChange(/^-?\d+$/.test(e.target.value) ? Number(e.target.value) : undefined)}
      />
    </Field>
  );
}
