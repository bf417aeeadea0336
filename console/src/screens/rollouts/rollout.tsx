// One rollout: its waves with what was foreseen and what happened, the laptops' reasons, and what a person can do.
import { useState } from 'react';
import { Link, useParams, useSearchParams } from 'react-router';
import type { Rollout, RolloutWave } from '../../api/client';
import { useGroups, useMay, useUnits } from '../../api/queries';
import { useRollout, useRolloutEvents, useRolloutLaptops } from '../../api/rollouts';
import { useAnnounced } from '../../ui/announce';
import { Failed, Fold, Heads, Id, Loading, Page, Sheet } from '../../ui/parts';
import { Course, laptopStates, lengthOf, Progress, progressWord, StateBar, StateCounts, waveWord } from '../../ui/rollout';
import { count, now, number, Time } from '../../ui/words';
import { Acts, ExcuseDialog } from './acts';

export function RolloutScreen() {
  const { id = '' } = useParams();
  const { data: r, error } = useRollout(id);
  useAnnounced(r ? `${r.title}: ${progressWord(r).word}, ${count(r.counts.taken ?? 0, 'laptop')} taken` : '');
  return (
    <Page
      title={r?.title ?? 'Rollout'}
      lead={
        r && (
          <>
            <Id copy>{r.id}</Id> · <Progress of={r} /> · published by {r.by} <Time at={r.published_at} />
            {r.revision ? ` · live as revision ${r.revision}` : ''}
          </>
        )
      }
      actions={r && <Acts r={r} />}
    >
      <Failed error={error} />
      {!r && !error && <Loading />}
      {r && <Body r={r} />}
    </Page>
  );
}

function Body({ r }: { r: Rollout }) {
  const [params, setParams] = useSearchParams();
  const wave = params.get('wave') ?? '';
  const state = params.get('state') ?? '';
  const pick = (next: { wave?: string; state?: string }) =>
    setParams((p) => {
      for (const [name, value] of Object.entries(next)) {
        if (value) p.set(name, value);
        else p.delete(name);
      }
      return p;
    });
  if (r.progress === 'waiting')
    return (
      <div className="sheet px-4 py-4 text-sm">
        It starts by itself when {r.waits_for?.length === 1 ? 'this rollout is' : 'these rollouts are'} over:{' '}
        {r.waits_for?.map((x) => (
          <Link key={x} className="id link mr-2" to={`/rollouts/${x}`}>
            {x}
          </Link>
        ))}
      </div>
    );
  return (
    <>
      <Attention r={r} onPick={pick} />
      <Waves r={r} onPick={pick} />
      {r.prediction.judged > 0 && (
        <p className="text-sm">
          <strong className="tabular-nums">{r.prediction.percent} %</strong> of the predictions came true: {number(r.prediction.came_true)} of{' '}
          {count(r.prediction.judged, 'laptop')} report what was predicted before publishing.
        </p>
      )}
      <div className="grid items-start gap-4 lg:grid-cols-[minmax(0,1.35fr)_minmax(0,1fr)]">
        <div className="flex min-w-0 flex-col gap-4">
          <OverTime r={r} />
          <LaptopList r={r} wave={wave} state={state} onPick={pick} />
        </div>
        <div className="flex min-w-0 flex-col gap-4">
          <Reasons r={r} onPick={pick} />
          <Rules r={r} />
          <Happened r={r} />
        </div>
      </div>
    </>
  );
}

/** What a person has to know first: that it stopped and why, or that a wave is ready. */
function Attention({ r, onPick }: { r: Rollout; onPick: (next: { state?: string; wave?: string }) => void }) {
  if (r.progress === 'stopped') {
    const lost = r.reason === 'lost';
    return (
      <div role="alert" className="rounded border border-error/50 bg-error/5 px-4 py-3 text-sm">
        <p className="font-medium text-error">
          {lost
            ? `It stopped by itself: ${count(r.stops_at?.lost ?? 0, 'laptop was', 'laptops were')} lost, more than the ${number(r.stops_at?.lost_most ?? 0)} that the plan allows.`
            : `It stopped by itself: ${count(r.stops_at?.failed ?? 0, 'laptop')} failed, more than the ${number(r.stops_at?.failed_most ?? 0)} that the plan allows.`}
        </p>
        <p className="mt-0.5">
          Laptops that are due have again what they had before; those that took the change keep it.{' '}
          <button type="button" className="link cursor-pointer" onClick={() => onPick({ state: lost ? 'lost' : 'failed', wave: '' })}>
            Show the {lost ? 'lost' : 'failed'} laptops
          </button>
        </p>
      </div>
    );
  }
  if (!r.ready) return null;
  const next = r.waves.find((w) => !w.opened_at);
  return (
    <div role="note" className="rounded border border-warning/60 bg-warning/8 px-4 py-3 text-sm">
      <p className="font-medium text-warning">
        The wave ‘{next?.id}’ is ready: enough laptops of the wave before have taken the change. A person opens it, for {count(next?.laptops ?? 0, 'laptop')}.
      </p>
    </div>
  );
}

/** The titles of groups and units, for whom a wave is. */
function useTargetTitles() {
  const groups = useGroups().data ?? [];
  const units = useUnits().data ?? [];
  return (target: string) => {
    const [kind, id] = target.split(':');
    if (kind === 'device') return id ?? target;
    if (kind === 'group') return groups.find((g) => g.id === id)?.title || target;
    if (kind === 'unit') return units.find((u) => u.id === id)?.title || target;
    return target === 'everyone' ? 'everyone' : target;
  };
}

function Waves({ r, onPick }: { r: Rollout; onPick: (next: { wave?: string; state?: string }) => void }) {
  const title = useTargetTitles();
  return (
    <Sheet title="Waves" aside={count(r.laptops, 'laptop')}>
      {r.waves.length === 0 && <p className="quiet px-4 py-3 text-sm">The change touches no laptop.</p>}
      <ol>
        {r.waves.map((w) => (
          <li key={w.id} className="grid gap-x-5 gap-y-1 border-b border-base-300/60 px-4 py-3 last:border-0 md:grid-cols-[13rem_minmax(0,1fr)_17rem]">
            <div className="min-w-0 text-sm">
              <div className={w.opened_at ? 'font-semibold' : 'font-medium'}>{w.id}</div>
              <div className="quiet text-[13px]">{waveWord(w, title)}</div>
            </div>
            <div className="flex min-w-0 flex-col gap-1.5">
              <StateBar counts={w.counts} laptops={w.laptops} />
              <StateCounts counts={w.counts} onPick={(state) => onPick({ wave: w.id, state })} />
            </div>
            <Foreseen w={w} r={r} />
          </li>
        ))}
      </ol>
    </Sheet>
  );
}

/** Beside a wave: when its laptops usually check in, and when they did. */
function Foreseen({ w, r }: { w: RolloutWave; r: Rollout }) {
  const after = (seconds?: number) => (seconds && w.opened_at ? new Date(Date.parse(w.opened_at) + seconds * 1000).toISOString() : undefined);
  const row = (share: string, within: number | undefined, took: string | null | undefined) => {
    const by = after(within);
    const late = !!by && !took && r.progress === 'running' && Date.parse(by) < now();
    return (
      <>
        <dt className="quiet">{share}</dt>
        <dd className="tabular-nums">{within ? by ? <Time at={by} /> : `within ${lengthOf(within)}` : '–'}</dd>
        <dd className={late ? 'text-warning' : ''}>{took ? <Time at={took} /> : late ? 'late' : w.opened_at ? 'not yet' : ''}</dd>
      </>
    );
  };
  return (
    <div className="text-[13px]">
      <p className="quiet">
        {w.opened_at ? (
          <>
            open since <Time at={w.opened_at} />
          </>
        ) : (
          (w.go === 'by-hand' ? 'a person opens it' : 'opens by itself') + (w.least ? `, for ${w.least} at least` : '')
        )}
      </p>
      <dl className="grid grid-cols-[auto_1fr_1fr] gap-x-3" aria-label={`Forecast of ${w.id}`}>
        <dt className="quiet" />
        <dd className="quiet">foreseen</dd>
        <dd className="quiet">{w.opened_at ? 'taken' : ''}</dd>
        {row('50 %', w.half_within, w.half_taken_at)}
        {row('95 %', w.most_within, w.most_taken_at)}
      </dl>
      {!!w.no_habit && w.no_habit > 0 && <p className="quiet">{count(w.no_habit, 'laptop has', 'laptops have')} no known habit</p>}
    </div>
  );
}

function OverTime({ r }: { r: Rollout }) {
  if (!r.started_at) return null;
  const points = r.course ?? [];
  const marks = r.waves.flatMap((w) => (w.opened_at ? [{ at: w.opened_at, word: w.id }] : []));
  return (
    <Sheet title="Over time" aside="laptops that had taken the change">
      <div className="px-3 py-2">
        <Course points={points} laptops={r.laptops} marks={marks} from={r.started_at} to={r.ended_at ?? new Date(now()).toISOString()} />
        <Fold summary={<span className="text-[13px]">As a table</span>}>
          <table className="table table-sm">
            <caption className="sr-only">Laptops that had taken the change, and failed, over time</caption>
            <Heads of={['Until', 'Taken', 'Failed']} />
            <tbody>
              {points.slice(-30).map((p) => (
                <tr key={p.at}>
                  <th scope="row">
                    <Time at={p.at} />
                  </th>
                  <td className="tabular-nums">{p.taken}</td>
                  <td className="tabular-nums">{p.failed}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </Fold>
      </div>
    </Sheet>
  );
}

function Reasons({ r, onPick }: { r: Rollout; onPick: (next: { wave?: string; state?: string }) => void }) {
  if (!r.reasons?.length) return null;
  return (
    <Sheet title="Why laptops failed" aside={count(r.counts.failed ?? 0, 'laptop')}>
      <ul className="py-1.5 text-sm">
        {r.reasons.map((x) => (
          <li key={x.reason} className="flex items-baseline justify-between gap-4 px-4 py-1">
            <span>{x.reason || 'no reason given'}</span>
            <button type="button" className="cursor-pointer tabular-nums hover:underline" onClick={() => onPick({ state: 'failed', wave: '' })}>
              {count(x.laptops, 'laptop')}
            </button>
          </li>
        ))}
      </ul>
    </Sheet>
  );
}

/** The plan as it is for this rollout, and how near it is to stopping. */
function Rules({ r }: { r: Rollout }) {
  const s = r.stops_at;
  const open = r.waves.filter((w) => w.opened_at).at(-1);
  return (
    <Sheet title="Plan" aside={r.plan.title || r.plan.id}>
      <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 px-4 py-3 text-sm">
        {open && r.progress === 'running' && (
          <>
            <dt className="quiet">Goes on</dt>
            <dd>
              {r.gate_passed
                ? 'enough laptops have taken it'
                : `when ${count(open.needs_taken ?? 0, 'laptop')} of ${open.id} have taken it, ${number(open.counts.taken ?? 0)} have`}
              {r.gate_from && Date.parse(r.gate_from) > now() && (
                <>
                  , not before <Time at={r.gate_from} />
                </>
              )}
            </dd>
          </>
        )}
        {s && (
          <>
            <dt className="quiet">Stops</dt>
            <dd>
              when more than {number(s.failed_most)} fail ({number(s.failed)} did) or more than {number(s.lost_most)} are lost ({number(s.lost)} are)
            </dd>
          </>
        )}
        {r.plan.hours?.length ? (
          <>
            <dt className="quiet">Hours</dt>
            <dd>
              {r.plan.hours.map((h) => `${h.days?.join(', ')} ${h.from}–${h.to}`).join('; ')} {r.plan.zone ?? 'UTC'}
            </dd>
          </>
        ) : null}
        <dt className="quiet">Silent</dt>
        <dd>after {r.plan.silent_after ?? '14d'} without a check-in</dd>
        <dt className="quiet">Lost</dt>
        <dd>{r.plan.lost_after ?? '4h'} after its last check-in, or three of its usual intervals</dd>
      </dl>
      <p className="border-t border-base-300/60 px-4 py-2 text-[13px]">
        <Link className="link" to={`/changes/${r.id}`}>
          The change, its review and approvals
        </Link>
      </p>
    </Sheet>
  );
}

function LaptopList({ r, wave, state, onPick }: { r: Rollout; wave: string; state: string; onPick: (next: { wave?: string; state?: string }) => void }) {
  const list = useRolloutLaptops(r.id, wave, state);
  const mayOperate = useMay('operate-rollouts');
  const [excusing, setExcusing] = useState('');
  const over = !!r.ended_at;
  return (
    <Sheet
      title="Laptops"
      aside={
        <span className="flex flex-wrap gap-2">
          <select aria-label="Wave" className="select select-xs w-36" value={wave} onChange={(e) => onPick({ wave: e.target.value })}>
            <option value="">all waves</option>
            {r.waves.map((w) => (
              <option key={w.id}>{w.id}</option>
            ))}
          </select>
          <select aria-label="State" className="select select-xs w-32" value={state} onChange={(e) => onPick({ state: e.target.value })}>
            <option value="">all states</option>
            {laptopStates.map((s) => (
              <option key={s.state} value={s.state}>
                {s.word}
              </option>
            ))}
          </select>
        </span>
      }
    >
      <Failed error={list.error} />
      {list.data?.items.length === 0 && <p className="quiet px-4 py-3 text-sm">No such laptops.</p>}
      {!!list.data?.items.length && (
        <div className="max-h-[28rem] overflow-auto" tabIndex={0} role="region" aria-label="Laptops of the rollout">
          <table className="table table-sm">
            <caption className="sr-only">Laptops of the rollout</caption>
            <Heads of={['Laptop', 'State', 'Wave', 'Seen']} actions />
            <tbody>
              {list.data.items.map((l) => (
                <tr key={l.device}>
                  <th scope="row">
                    <Link to={`/devices/${l.device}`} className="id link-hover link">
                      {l.device}
                    </Link>
                    <div className="quiet text-[13px]">
                      {l.owner || 'no owner'} · {l.unit} · {l.os} {l.os_version}
                    </div>
                  </th>
                  <td>
                    {laptopStates.find((s) => s.state === l.state)?.word}
                    {l.since && (
                      <span className="quiet text-[13px]">
                        {' '}
                        <Time at={l.since} />
                      </span>
                    )}
                    {l.reason && <div className="text-[13px]">{l.reason}</div>}
                  </td>
                  <td>{l.wave}</td>
                  <td>
                    <Time at={l.heard} />
                    {!!l.interval && <div className="quiet text-[13px]">every {lengthOf(l.interval)}</div>}
                  </td>
                  <td className="text-right">
                    {mayOperate && !over && l.state !== 'excused' && (
                      <button
                        type="button"
                        className="btn btn-ghost btn-xs whitespace-nowrap"
                        aria-label={`Excuse ${l.device} …`}
                        onClick={() => setExcusing(l.device)}
                      >
                        Excuse …
                      </button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          {list.data.total > list.data.items.length && <p className="quiet px-4 py-2 text-sm">and {number(list.data.total - list.data.items.length)} more</p>}
        </div>
      )}
      <ExcuseDialog r={r} device={excusing} onClose={() => setExcusing('')} />
    </Sheet>
  );
}

function Happened({ r }: { r: Rollout }) {
  const events = useRolloutEvents(r.id).data ?? [];
  return (
    <Sheet title="What happened">
      <ol className="max-h-80 overflow-auto py-1.5 text-sm" tabIndex={0} aria-label="What happened in the rollout">
        {events.map((e) => (
          <li key={e.seq} className="flex items-baseline justify-between gap-4 px-4 py-1">
            <span>
              {e.what === 'opened'
                ? `Wave ‘${e.wave}’ opened with ${count(e.laptops ?? 0, 'laptop')}`
                : progressWord({
                    progress: (e.to ?? 'running') as Rollout['progress'],
                    reason: e.reason === 'lost' || e.reason === 'failed' ? e.reason : undefined,
                  }).word}
              {e.by && e.by !== 'service' && !e.by.startsWith('LT-') && (
                <span className="quiet">
                  {' '}
                  by {e.by}
                  {e.reason && `: ${e.reason}`}
                </span>
              )}
            </span>
            <span className="quiet text-[13px]">
              <Time at={e.at} />
            </span>
          </li>
        ))}
      </ol>
    </Sheet>
  );
}
