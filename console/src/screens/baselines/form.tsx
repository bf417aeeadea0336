// Writing a baseline: whom it measures, and which values it wants.
import { useMutation } from '@tanstack/react-query';
import { X } from 'lucide-react';
import { useState } from 'react';
import { api, got, Refusal, type BaselineDoc, type BaselineItemDoc } from '../../api/client';
import { keys, queries, useDictionary, usePolicies } from '../../api/queries';
import { useOpenChange } from '../../ui/change';
import { blank, Control } from '../../ui/control';
import { Failed, Field, Sheet } from '../../ui/parts';
import { TargetField, TargetName } from '../../ui/target';
import { count, slug } from '../../ui/words';
import { Picker } from '../policy/picker';

export const emptyBaseline: BaselineDoc = { id: '', audience: {}, settings: {} };

const severities = ['critical', 'high', 'medium', 'low'] as const;

export function BaselineForm({ start, onDone }: { start: BaselineDoc; onDone: () => void }) {
  const { change, put, retire } = useOpenChange();
  const dictionary = new Map((useDictionary().data ?? []).map((d) => [d.id, d]));
  const [doc, setDoc] = useState(start);
  const [error, setError] = useState<unknown>();
  const alter = (part: Partial<BaselineDoc>) => setDoc((d) => ({ ...d, ...part }));
  const item = (id: string, part: Partial<BaselineItemDoc>) => setDoc((d) => ({ ...d, settings: { ...d.settings, [id]: { ...d.settings[id]!, ...part } } }));
  const without = (id: string) => setDoc((d) => ({ ...d, settings: Object.fromEntries(Object.entries(d.settings).filter(([k]) => k !== id)) }));
  const id = start.id || slug(doc.title ?? '');
  const include = doc.audience.include ?? [];
  const version = change?.edits?.find((e) => e.kind === 'baselines' && e.id === id)?.version;
  const faults = error instanceof Refusal ? (error.problem.faults ?? []) : [];
  const of = (path: string) => faults.filter((f) => f.path?.endsWith(path)).map((f) => `found ${f.found ?? 'nothing'}, expected ${f.expected}`);
  const kept = async (write: Promise<unknown>) => {
    await write;
    await queries.invalidateQueries({ queryKey: keys.estate });
    onDone();
  };
  const ids = Object.keys(doc.settings).sort();
  return (
    <form
      className="flex flex-col gap-4"
      onSubmit={(e) => {
        e.preventDefault();
        void kept(put('baselines', { ...doc, id }, version, `Baseline ${doc.title || id}`)).catch(setError);
      }}
    >
      <div className="grid gap-4 sm:grid-cols-[1fr_1fr_9rem]">
        <Field label="Title">
          <input className="input input-sm w-full" required value={doc.title ?? ''} onChange={(e) => alter({ title: e.target.value })} />
        </Field>
        <Field label="Why">
          <input className="input input-sm w-full" value={doc.why ?? ''} onChange={(e) => alter({ why: e.target.value || undefined })} />
        </Field>
        <Field label="Tell me below" faults={of('/alert_below')}>
          <label className="input input-sm w-full">
            <input
              type="number"
              min={0}
              max={100}
              aria-label="Percent of the laptops that must comply"
              value={doc.alert_below ?? ''}
              onChange={(e) => alter({ alert_below: e.target.value === '' ? undefined : Number(e.target.value) })}
            />
            %
          </label>
        </Field>
      </div>
      <Field label="Whom it measures" faults={of('/include')}>
        <div className="flex flex-col gap-2">
          {include.length > 0 && (
            <ul className="flex flex-wrap gap-2">
              {include.map((t) => (
                <li key={t} className="flex items-center gap-1 rounded bg-base-200 px-2 py-0.5 text-sm">
                  <TargetName target={t} />
                  <button
                    type="button"
                    className="btn btn-ghost btn-xs"
                    aria-label={`Leave ${t} out`}
                    onClick={() => alter({ audience: { ...doc.audience, include: include.filter((x) => x !== t) } })}
                  >
                    <X size={13} aria-hidden />
                  </button>
                </li>
              ))}
            </ul>
          )}
          <TargetField label="Add whom it measures" whole onTake={(t) => alter({ audience: { ...doc.audience, include: [...new Set([...include, t])] } })} />
        </div>
      </Field>
      {ids.length === 0 && <Begin onTake={(settings) => alter({ settings })} />}
      <Sheet title="What laptops are to have" aside={count(ids.length, 'setting')}>
        <ul>
          {ids.map((s) => {
            const d = dictionary.get(s);
            const is = doc.settings[s]!;
            return (
              <li
                key={s}
                className="grid items-start gap-3 border-b border-base-300/60 px-4 py-2 text-sm last:border-0 md:grid-cols-[1.3fr_1.3fr_7rem_11rem_auto]"
              >
                <div className="min-w-0">
                  {d?.title ?? s}
                  <div className="id quiet">{s}</div>
                  {faults
                    .filter((f) => f.path?.includes(s))
                    .map((f) => (
                      <p key={f.path} className="text-[13px] text-error">
                        found {f.found ?? 'nothing'}, expected {f.expected}
                      </p>
                    ))}
                </div>
                <div className="min-w-0">
                  {d && <Control of={d} value={is.value} onChange={(value) => item(s, { value })} label={`Value of ${d.title ?? s}`} />}
                </div>
                <select
                  className="select select-sm"
                  aria-label={`Severity of ${d?.title ?? s}`}
                  value={is.severity ?? 'medium'}
                  onChange={(e) => {
                    const severity = severities.find((x) => x === e.target.value);
                    item(s, { severity: severity === 'medium' ? undefined : severity });
                  }}
                >
                  {severities.map((x) => (
                    <option key={x}>{x}</option>
                  ))}
                </select>
                <select
                  className="select select-sm"
                  aria-label={`Where ${d?.title ?? s} differs`}
                  value={is.on_drift ?? 'report'}
                  onChange={(e) => item(s, { on_drift: e.target.value === 'repair' ? 'repair' : undefined })}
                >
                  <option value="report">only report it</option>
                  <option value="repair">put it right</option>
                </select>
                <button type="button" className="btn btn-ghost btn-sm" aria-label={`Remove ${d?.title ?? s}`} onClick={() => without(s)}>
                  <X size={14} aria-hidden />
                </button>
              </li>
            );
          })}
        </ul>
        <Picker
          taken={ids}
          platforms={[]}
          onPick={(d) => setDoc((was) => ({ ...was, settings: { ...was.settings, [d.id]: { value: blank(d), category: d.area } } }))}
        />
      </Sheet>
      <p className="quiet text-[13px]">‘Put it right’ counts where no policy decides the setting. Policies are never overridden.</p>
      <Failed error={faults.length > 0 ? undefined : error} />
      <div className="flex justify-end gap-2">
        {start.id && (
          <button
            type="button"
            className="btn btn-sm"
            onClick={() => void kept(retire('baselines', start.id, `Without the baseline ${doc.title || id}`)).catch(setError)}
          >
            Take the baseline away
          </button>
        )}
        <button type="submit" className="btn btn-primary btn-sm" disabled={!id || ids.length === 0}>
          Put into the change
        </button>
      </div>
    </form>
  );
}

/** What a new baseline can begin with: a policy, or a laptop that is as it should be. */
function Begin({ onTake }: { onTake: (settings: Record<string, BaselineItemDoc>) => void }) {
  const policies = usePolicies().data?.items ?? [];
  const take = useMutation({
    mutationFn: (from: { policy?: string; device?: string }) => got(api.GET('/api/v1/baseline-settings', { params: { query: from } })),
    onSuccess: onTake,
  });
  return (
    <Sheet title="Begin with">
      <div className="grid gap-4 px-4 py-3 md:grid-cols-2">
        <Field label="What a policy sets">
          <select className="select select-sm w-full" value="" onChange={(e) => e.target.value && take.mutate({ policy: e.target.value })}>
            <option value="">Choose a policy …</option>
            {policies.map((p) => (
              <option key={p.id} value={p.id}>
                {p.title || p.id}
              </option>
            ))}
          </select>
        </Field>
        <Field label="What a laptop has in force">
          <TargetField
            label="A laptop that is as it should be"
            onTake={(t) => {
              const device = t.startsWith('device:') ? t.slice('device:'.length) : '';
              if (device) take.mutate({ device });
            }}
          />
        </Field>
      </div>
      <Failed error={take.error} />
    </Sheet>
  );
}
