// The editor of a rollout plan. Beside it: the waves that it makes of this estate, and how it goes when a share of the laptops fails.
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { ArrowDown, ArrowUp, Plus, Trash2, X } from 'lucide-react';
import { useState } from 'react';
import { useNavigate, useParams } from 'react-router';
import { api, got, type Fault, type PlanOutcome, type RolloutPlanDoc, type WaveDoc } from '../../api/client';
import { keys, queries } from '../../api/queries';
import { useRolloutPlans } from '../../api/rollouts';
import { useOpenChange } from '../../ui/change';
import { Failed, Faults, Field, Id, Loading, Page, Sheet } from '../../ui/parts';
import { Course, lengthOf } from '../../ui/rollout';
import { TargetField, TargetName } from '../../ui/target';
import { useSettled } from '../../ui/typed';
import { count, number, slug } from '../../ui/words';

export function PlanScreen() {
  const { id = '' } = useParams();
  const { change } = useOpenChange();
  const plans = useRolloutPlans();
  if (plans.isPending)
    return (
      <Page title="Rollout plan">
        <Loading />
      </Page>
    );
  const edit = change?.edits?.find((e) => e.kind === 'rollout_plans' && e.id === id);
  const drafted = edit?.body as RolloutPlanDoc | undefined;
  const plan = drafted ?? plans.data?.find((p) => p.id === id);
  if (!plan && id !== 'new')
    return (
      <Page title="Rollout plan">
        <Failed error={plans.error ?? new Error(`There is no rollout plan ‘${id}’.`)} />
      </Page>
    );
  return <Editor key={id} start={plan} version={edit?.version} />;
}

const first: RolloutPlanDoc = {
  id: '',
  waves: [
    { id: 'first', share: 5, least: '24h' },
    { id: 'everybody', rest: true },
  ],
};

function Editor({ start, version }: { start?: RolloutPlanDoc; version?: number }) {
  const { put } = useOpenChange();
  const go = useNavigate();
  const [doc, setDoc] = useState<RolloutPlanDoc>(start ?? first);
  const [failing, setFailing] = useState(0);
  const [error, setError] = useState<unknown>();
  const alter = (part: Partial<RolloutPlanDoc>) => setDoc((d) => ({ ...d, ...part }));
  const id = start?.id ?? slug(doc.title ?? '');
  const tried = useTried({ ...doc, id: id || 'new' }, failing);
  const faults = tried.data?.faults ?? [];
  const waves = doc.waves ?? [];
  const setWave = (at: number, part: Partial<WaveDoc>) => alter({ waves: waves.map((w, i) => (i === at ? { ...w, ...part } : w)) });
  const move = (at: number, by: number) => {
    const next = [...waves];
    const [wave] = next.splice(at, 1);
    if (wave) next.splice(at + by, 0, wave);
    alter({ waves: next });
  };
  const save = async () => {
    await put('rollout_plans', clean({ ...doc, id }), version, start ? `Rollout plan ${doc.title || id}` : `New rollout plan ${doc.title}`);
    await queries.invalidateQueries({ queryKey: keys.estate });
    go(`/rollouts/plans/${id}`);
  };
  return (
    <Page
      title={start ? start.title || start.id : 'New rollout plan'}
      lead={start && <Id copy>{start.id}</Id>}
      actions={
        <button type="button" className="btn btn-primary btn-sm" disabled={!id || tried.isError} onClick={() => void save().catch(setError)}>
          Put into the change
        </button>
      }
    >
      <Failed error={error} />
      <div className="grid items-start gap-4 xl:grid-cols-[minmax(0,1fr)_28rem]">
        <div className="flex min-w-0 flex-col gap-4">
          <Sheet title="Plan">
            <div className="grid gap-4 px-4 py-3 sm:grid-cols-2">
              <Field label="Title">
                <input className="input input-sm w-full" required value={doc.title ?? ''} onChange={(e) => alter({ title: e.target.value })} />
              </Field>
              <label className="flex items-center gap-2 self-end pb-2 text-sm">
                <input type="checkbox" className="checkbox checkbox-sm" checked={!!doc.default} onChange={(e) => alter({ default: e.target.checked })} /> the
                default: chosen where a publication names no plan
              </label>
            </div>
          </Sheet>
          <Sheet title="Waves" aside="in the order in which they open">
            <ol>
              {waves.map((w, at) => (
                <WaveRow
                  key={at}
                  w={w}
                  last={at === waves.length - 1}
                  faults={faults.filter((f) => f.path?.startsWith(`/waves/${at}`))}
                  onAlter={(part) => setWave(at, part)}
                  onMove={(by) => move(at, by)}
                  first={at === 0}
                  onRemove={() => alter({ waves: waves.filter((_, i) => i !== at) })}
                />
              ))}
            </ol>
            <div className="border-t border-base-300/60 px-4 py-2">
              <button type="button" className="btn btn-sm" onClick={() => alter({ waves: inserted(waves) })}>
                <Plus size={14} aria-hidden /> Another wave
              </button>
            </div>
          </Sheet>
          <Stops doc={doc} alter={alter} />
        </div>
        <Rehearsal tried={tried.data} error={tried.error} failing={failing} onFailing={setFailing} />
      </div>
    </Page>
  );
}

/** Another wave, before the one for the rest. */
function inserted(waves: WaveDoc[]): WaveDoc[] {
  let n = waves.length + 1;
  while (waves.some((w) => w.id === `wave-${n}`)) n++;
  const wave: WaveDoc = { id: `wave-${n}`, share: 20, least: '24h' };
  const rest = waves.at(-1)?.rest ? waves.length - 1 : waves.length;
  return [...waves.slice(0, rest), wave, ...waves.slice(rest)];
}

/** The plan without what is empty. */
function clean(d: RolloutPlanDoc): RolloutPlanDoc {
  return Object.fromEntries(
    Object.entries(d).filter(([, v]) => v !== '' && v !== undefined && v !== false && !(Array.isArray(v) && v.length === 0)),
  ) as RolloutPlanDoc;
}

/** How the plan goes on this estate, asked when what is typed has settled. */
function useTried(doc: RolloutPlanDoc, failing: number) {
  const asked = useSettled({ plan: clean(doc), failing });
  return useQuery({
    queryKey: [...keys.estate, 'plan-trial', asked],
    queryFn: ({ signal }) => got(api.POST('/api/v1/rollout-plans/try', { body: asked, signal })),
    placeholderData: keepPreviousData,
    retry: false,
  });
}

const kindOf = (w: WaveDoc) => (w.rest ? 'rest' : w.who ? 'who' : 'share');

function WaveRow({
  w,
  first: isFirst,
  last,
  faults,
  onAlter,
  onMove,
  onRemove,
}: {
  w: WaveDoc;
  first: boolean;
  last: boolean;
  faults: Fault[];
  onAlter: (part: Partial<WaveDoc>) => void;
  onMove: (by: number) => void;
  onRemove: () => void;
}) {
  const kind = kindOf(w);
  const as = (next: string) =>
    onAlter(
      next === 'rest'
        ? { rest: true, who: undefined, share: undefined }
        : next === 'who'
          ? { who: {}, rest: undefined, share: undefined }
          : { share: 20, rest: undefined, who: undefined },
    );
  const numeric = (text: string) => (text === '' ? undefined : Number(text));
  return (
    <li className="flex flex-col gap-3 border-b border-base-300/60 px-4 py-3 last:border-0">
      <div className="flex flex-wrap items-end gap-3">
        <Field label="Wave">
          <input className="input input-sm w-28 font-mono" value={w.id} onChange={(e) => onAlter({ id: e.target.value })} />
        </Field>
        <Field label="For">
          <select className="select select-sm w-48" value={kind} onChange={(e) => as(e.target.value)}>
            <option value="who">laptops of an audience</option>
            <option value="share">a share of the laptops</option>
            {(last || w.rest) && <option value="rest">all that are left</option>}
          </select>
        </Field>
        {kind === 'share' && (
          <Field label="Percent">
            <input
              type="number"
              min={0.01}
              max={100}
              step="any"
              className="input input-sm w-20 tabular-nums"
              value={w.share ?? ''}
              onChange={(e) => onAlter({ share: numeric(e.target.value) })}
            />
          </Field>
        )}
        <span className="flex-1" />
        <button
          type="button"
          className="btn btn-ghost btn-sm btn-square"
          aria-label={`Move ${w.id} up`}
          disabled={isFirst || w.rest}
          onClick={() => onMove(-1)}
        >
          <ArrowUp size={15} aria-hidden />
        </button>
        <button type="button" className="btn btn-ghost btn-sm btn-square" aria-label={`Move ${w.id} down`} disabled={last || w.rest} onClick={() => onMove(1)}>
          <ArrowDown size={15} aria-hidden />
        </button>
        <button type="button" className="btn btn-ghost btn-sm btn-square" aria-label={`Remove ${w.id}`} onClick={onRemove}>
          <Trash2 size={15} aria-hidden />
        </button>
      </div>
      {kind === 'who' && (
        <div className="flex flex-col gap-2">
          <ul className="flex flex-wrap gap-1.5 text-sm">
            {(w.who?.include ?? []).map((t) => (
              <li key={t} className="flex items-center gap-1 rounded border border-base-300 px-2 py-0.5">
                <TargetName target={t} />
                <button
                  type="button"
                  className="grid size-6 cursor-pointer place-items-center"
                  aria-label={`Remove ${t}`}
                  onClick={() => onAlter({ who: { ...w.who, include: w.who?.include?.filter((x) => x !== t) } })}
                >
                  <X size={13} aria-hidden />
                </button>
              </li>
            ))}
          </ul>
          <TargetField
            label={`Laptops of ${w.id}`}
            hint="A group, unit, person or laptop"
            whole
            onTake={(t) => onAlter({ who: { ...w.who, include: [...new Set([...(w.who?.include ?? []), t])] } })}
          />
        </div>
      )}
      <div className="flex flex-wrap items-end gap-3">
        <Field label="Opens">
          <select
            className="select select-sm w-44"
            value={w.go ?? 'automatic'}
            disabled={isFirst}
            onChange={(e) => onAlter({ go: e.target.value === 'by-hand' ? 'by-hand' : undefined })}
          >
            <option value="automatic">{isFirst ? 'at the start' : 'by itself'}</option>
            <option value="by-hand">when a person says so</option>
          </select>
        </Field>
        <Field label="Open for at least">
          <input className="input input-sm w-24" placeholder="0" value={w.least ?? ''} onChange={(e) => onAlter({ least: e.target.value || undefined })} />
        </Field>
        <Percent label="Enough when, percent" usual="90" value={w.enough} onChange={(enough) => onAlter({ enough })} />
        <p className="quiet pb-2 text-[13px]">of its laptops have taken it; then {last ? 'the rollout has finished' : 'the next wave may open'}</p>
      </div>
      {faults.length > 0 && (
        <div role="alert" className="text-error">
          <Faults list={faults} />
        </div>
      )}
    </li>
  );
}

/** A field for a percentage; empty: what is usual. */
function Percent({ label, usual, value, onChange }: { label: string; usual: string; value?: number; onChange: (n: number | undefined) => void }) {
  return (
    <Field label={label}>
      <input
        type="number"
        min={0}
        max={100}
        step="any"
        placeholder={usual}
        className="input input-sm w-28 tabular-nums"
        value={value ?? ''}
        onChange={(e) => onChange(e.target.value === '' ? undefined : Number(e.target.value))}
      />
    </Field>
  );
}

const days = ['mon', 'tue', 'wed', 'thu', 'fri', 'sat', 'sun'] as const;

function Stops({ doc, alter }: { doc: RolloutPlanDoc; alter: (part: Partial<RolloutPlanDoc>) => void }) {
  const window = doc.hours?.[0];
  const setWindow = (part: Partial<NonNullable<RolloutPlanDoc['hours']>[number]>) =>
    alter({ hours: [{ days: ['mon', 'tue', 'wed', 'thu'], from: '09:00', to: '15:00', ...window, ...part }, ...(doc.hours?.slice(1) ?? [])] });
  return (
    <Sheet title="When it stops, and when waves open">
      <div className="flex flex-col gap-4 px-4 py-3">
        <div className="flex flex-wrap gap-4">
          <Percent label="Stop above, percent failed" usual="5" value={doc.stop?.failed} onChange={(failed) => alter({ stop: { ...doc.stop, failed } })} />
          <Percent label="Stop above, percent lost" usual="2" value={doc.stop?.lost} onChange={(lost) => alter({ stop: { ...doc.stop, lost } })} />
          <Field label="Silent after" hint="A laptop that is due; 14d when empty">
            <input className="input input-sm w-28" placeholder="14d" value={doc.silent_after ?? ''} onChange={(e) => alter({ silent_after: e.target.value })} />
          </Field>
          <Field label="Lost after" hint="A laptop that took it; 4h when empty">
            <input className="input input-sm w-28" placeholder="4h" value={doc.lost_after ?? ''} onChange={(e) => alter({ lost_after: e.target.value })} />
          </Field>
        </div>
        <fieldset className="flex flex-col gap-2 text-sm">
          <legend className="mb-1 font-medium">Waves open by themselves</legend>
          <label className="flex items-center gap-2">
            <input type="radio" name="hours" className="radio" checked={!window} onChange={() => alter({ hours: [] })} /> at any time
          </label>
          <label className="flex items-center gap-2">
            <input type="radio" name="hours" className="radio" checked={!!window} onChange={() => setWindow({})} /> at these hours only
          </label>
          {window && (
            <div className="ml-6 flex flex-wrap items-end gap-3">
              <div role="group" aria-label="Days" className="flex gap-2">
                {days.map((d) => (
                  <label key={d} className="flex items-center gap-1">
                    <input
                      type="checkbox"
                      className="checkbox checkbox-xs"
                      checked={!!window.days?.includes(d)}
                      onChange={(e) => setWindow({ days: days.filter((x) => (x === d ? e.target.checked : window.days?.includes(x))) })}
                    />
                    {d}
                  </label>
                ))}
              </div>
              <Field label="From">
                <input className="input input-sm w-20" value={window.from} onChange={(e) => setWindow({ from: e.target.value })} />
              </Field>
              <Field label="To">
                <input className="input input-sm w-20" value={window.to} onChange={(e) => setWindow({ to: e.target.value })} />
              </Field>
              <Field label="Time zone">
                <input className="input input-sm w-40" placeholder="UTC" value={doc.zone ?? ''} onChange={(e) => alter({ zone: e.target.value })} />
              </Field>
            </div>
          )}
        </fieldset>
      </div>
    </Sheet>
  );
}

/** The waves on this estate, and how a rollout goes when a share of the laptops fails. */
function Rehearsal({ tried, error, failing, onFailing }: { tried?: PlanOutcome; error: unknown; failing: number; onFailing: (percent: number) => void }) {
  const plain = (tried?.faults ?? []).filter((f) => !f.path?.startsWith('/waves/'));
  const largest = Math.max(1, ...(tried?.waves ?? []).map((w) => w.laptops));
  return (
    <div className="flex min-w-0 flex-col gap-4 xl:sticky xl:top-4">
      <Sheet title="The waves on this estate" aside={tried && !tried.faults?.length ? count(tried.laptops, 'laptop') : undefined}>
        <div className="flex flex-col gap-3 px-4 py-3 text-sm">
          <Failed error={error} />
          {plain.length > 0 && (
            <div role="alert" className="text-error">
              <Faults list={plain} />
            </div>
          )}
          {!!tried?.faults?.length && <p className="quiet">By this plan a rollout cannot start: correct what is marked.</p>}
          {tried?.waves.map((w) => (
            <div key={w.id}>
              <div className="flex items-baseline justify-between gap-3">
                <span className="font-medium">{w.id}</span>
                <span className="tabular-nums">{count(w.laptops, 'laptop')}</span>
              </div>
              <div className="mt-1 h-2.5 rounded bg-base-200" aria-hidden>
                <div className="h-full rounded bg-primary" style={{ width: `${(100 * w.laptops) / largest}%` }} />
              </div>
              <p className="quiet mt-0.5 text-[13px]">
                {w.platforms.map((p) => `${p.id} ${number(p.laptops)}`).join(', ')} ·{' '}
                {w.units
                  .slice(0, 5)
                  .map((u) => `${u.title || u.id} ${number(u.laptops)}`)
                  .join(', ')}
                {w.units.length > 5 && `, ${count(w.units.length - 5, 'more unit')}`}
              </p>
            </div>
          ))}
          <p className="quiet text-[13px]">As for a change that touches every laptop.</p>
        </div>
      </Sheet>
      <Sheet title="Rehearsal">
        <div className="flex flex-col gap-3 px-4 py-3 text-sm">
          <label className="flex flex-col gap-1">
            <span className="flex justify-between font-medium">
              <span>Laptops that fail</span>
              <span className="tabular-nums">{failing} %</span>
            </span>
            <input
              type="range"
              min={0}
              max={20}
              step={0.5}
              className="range range-xs w-full"
              value={failing}
              onChange={(e) => onFailing(Number(e.target.value))}
            />
          </label>
          {tried && !tried.faults?.length && tried.waves.length > 0 && (
            <>
              <p>
                <Ending tried={tried} />
              </p>
              <Course
                points={tried.points}
                laptops={tried.laptops}
                marks={tried.waves.flatMap((w) => (w.opened ? [{ at: w.opened, word: w.id }] : []))}
                from={tried.started}
                to={tried.ended}
              />
              {tried.no_habit > 0 && (
                <p className="quiet text-[13px]">
                  {count(tried.no_habit, 'laptop has', 'laptops have')} no known habit: they are played as if they checked in every hour.
                </p>
              )}
            </>
          )}
        </div>
      </Sheet>
    </div>
  );
}

function Ending({ tried }: { tried: PlanOutcome }) {
  const after = lengthOf((Date.parse(tried.ended) - Date.parse(tried.started)) / 1000);
  const last = tried.points.at(-1);
  if (tried.progress === 'finished')
    return (
      <>
        It finishes after <strong>{after}</strong>
        {last && last.failed > 0 && `, with ${count(last.failed, 'laptop')} failed`}.
      </>
    );
  if (tried.progress === 'stopped')
    return (
      <span className="text-error">
        It stops after <strong>{after}</strong>: too many {tried.reason}. {count(last?.open ?? 0, 'laptop')} would have been in open waves,{' '}
        {number(last?.failed ?? 0)} of them failed.
      </span>
    );
  return <>Nothing more happens after {after}: a gate is not passed. Too few laptops take the change.</>;
}
