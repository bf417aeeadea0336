// What a change does: numbers, each value before and after, conflicts and problems that come and go.
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { ArrowRight, TrendingDown } from 'lucide-react';
import { memo, useRef } from 'react';
import { api, got, type Impact } from '../api/client';
import { keys } from '../api/queries';
import { Laptops, type Asked } from './laptops';
import { Failed, Faults, Loading, Sheet } from './parts';
import { DeviceLinks } from './reach';
import { timed, useSettled } from './typed';
import { count, number, Status, ValueText } from './words';
import type { Value } from '../api/client';

type State = { status?: string; value?: Value };

function StateText({ of, old = false }: { of: State; old?: boolean }) {
  if (!of.status) return <span className="quiet">not set</span>;
  if (of.status !== 'set') return <Status of={of.status} />;
  return old ? (
    <s className="quiet">
      <ValueText of={of.value} />
    </s>
  ) : (
    <ValueText of={of.value} className="font-semibold" />
  );
}

/** Old value struck and muted, new value beside it; weaker is said by word and icon. */
export function BeforeAfter({ from, to, weaker = false }: { from: State; to: State; weaker?: boolean }) {
  return (
    <span className="inline-flex flex-wrap items-center gap-2">
      <StateText of={from} old />
      <ArrowRight size={13} aria-label="becomes" className="quiet shrink-0" />
      <StateText of={to} />
      {weaker && (
        <span className="inline-flex items-center gap-1 text-[13px] font-medium text-warning">
          <TrendingDown size={14} aria-hidden /> weaker
        </span>
      )}
    </span>
  );
}

const effects = [
  ['weaker', 'get a weaker value'],
  ['restart', 'need a restart'],
  ['prompt', 'are asked something'],
  ['irreversible', 'can’t be undone'],
  ['lockout', 'may be locked out'],
] as const;

export function ImpactSummary({ of, asked }: { of: Impact; asked?: Asked }) {
  return (
    <div className="flex flex-col gap-1 text-sm">
      <p className="flex flex-wrap items-baseline gap-x-3 gap-y-1">
        <span>
          Values change on{' '}
          <strong className="text-2xl">
            <Laptops n={of.devices} part="devices" asked={asked} of="get something else" />
          </strong>{' '}
          of {count(of.estate, 'laptop')}
        </span>
        {effects.map(([key, word]) =>
          of[key] > 0 ? (
            <span key={key} className="text-warning">
              <Laptops n={of[key]} part={key} asked={asked} of={word} /> {word}
            </span>
          ) : null,
        )}
      </p>
      {of.units.length > 0 && <p className="quiet text-[13px]">{of.units.map((u) => `${u.title || u.unit} ${number(u.devices)}`).join(' · ')}</p>}
    </div>
  );
}

function Ways({ of, most, asked, narrow }: { of: Impact; most: number; asked?: Asked; narrow: boolean }) {
  if (of.transitions.length === 0) return null;
  return (
    <>
      <div className="overflow-x-auto">
        <table className="table table-sm">
          <caption className="sr-only">What alters, and on how many laptops</caption>
          <thead>
            <tr>
              <th scope="col">{narrow ? 'Before → after' : 'Setting'}</th>
              {!narrow && <th scope="col">Before → after</th>}
              <th scope="col" className="text-right">
                Laptops
              </th>
            </tr>
          </thead>
          <tbody>
            {of.transitions.slice(0, most).map((t) => {
              const change = (
                <>
                  <BeforeAfter from={t.from} to={t.to} weaker={t.weaker} />
                  {t.effects.length > 0 && <div className="quiet mt-0.5 text-[13px]">{t.effects.join(', ')}</div>}
                </>
              );
              return (
                <tr key={t.part}>
                  <th scope="row" className="align-top">
                    <div>{t.title || t.setting}</div>
                    <div className="id quiet">{t.setting}</div>
                    {narrow && <div className="mt-1">{change}</div>}
                  </th>
                  {!narrow && <td className="align-top">{change}</td>}
                  <td className={`text-right align-top ${narrow ? '' : 'w-56'}`}>
                    <Laptops n={t.device_count} part={t.part} asked={asked} of={t.title || t.setting} />
                    {!narrow && <div className="quiet text-[13px]">{t.units.map((u) => `${u.title || u.unit} ${number(u.devices)}`).join(', ')}</div>}
                    {!asked && !narrow && <DeviceLinks ids={t.devices} more={t.device_count - t.devices.length} />}
                  </td>
                </tr>
              );
            })}
          </tbody>
        </table>
      </div>
      {of.ways > Math.min(most, of.transitions.length) && (
        <p className="quiet text-sm">and {number(of.ways - Math.min(most, of.transitions.length))} more ways in which settings alter</p>
      )}
    </>
  );
}

function Reached({ of, asked }: { of: Impact; asked?: Asked }) {
  const moved = of.audiences.filter((m) => m.gained + m.dropped > 0);
  if (moved.length === 0) return null;
  return (
    <ul className="flex flex-col gap-1 text-sm">
      {moved.slice(0, 12).map((m) => (
        <li key={m.policy}>
          <span className="font-medium">{m.title || m.policy}</span>{' '}
          {m.gained > 0 && (
            <>
              begins to reach <Laptops n={m.gained} part={m.gained_part} asked={asked} of={`begin to get ${m.title || m.policy}`} />
            </>
          )}
          {m.gained > 0 && m.dropped > 0 && ' and '}
          {m.dropped > 0 && (
            <span className="text-warning">
              no longer reaches <Laptops n={m.dropped} part={m.dropped_part} asked={asked} of={`fall out of ${m.title || m.policy}`} />
            </span>
          )}
        </li>
      ))}
      {moved.length > 12 && <li className="quiet">and {number(moved.length - 12)} more policies</li>}
    </ul>
  );
}

/** What a change does. With asked, every number opens the list of laptops behind it; narrow fits beside an editor. */
export function ImpactView({ of, most = 200, asked, narrow = false }: { of: Impact; most?: number; asked?: Asked; narrow?: boolean }) {
  if (of.faults?.length)
    return (
      <div role="alert" className="text-sm text-error">
        <p className="font-medium">This can’t be published as it is:</p>
        <Faults list={of.faults} />
      </div>
    );
  return (
    <div className="flex flex-col gap-4">
      <ImpactSummary of={of} asked={asked} />
      <Findings of={of} asked={asked} />
      <Ways of={of} most={most} asked={asked} narrow={narrow} />
      <Reached of={of} asked={asked} />
    </div>
  );
}

/** The impact of what is being written, asked again whenever it alters. */
function useTried(asked: Asked, enabled: boolean) {
  const settled = useSettled(asked);
  return useQuery({
    queryKey: [...keys.estate, 'impact', settled],
    queryFn: ({ signal }) =>
      timed(got(api.POST('/api/v1/impact', { params: { query: settled.change ? { change: settled.change } : {} }, body: { edits: settled.edits }, signal }))),
    placeholderData: keepPreviousData,
    enabled: enabled && (settled.edits.length > 0 || !!settled.change),
    retry: false,
  });
}

/** The one panel that says beside an editor what comes of it, for every laptop, while it is written. An answer that the editor has already is not asked for again. */
export const ImpactPanel = memo(function ImpactPanel({
  asked,
  title = 'What comes of it',
  enabled = true,
  known,
}: {
  asked: Asked;
  title?: string;
  enabled?: boolean;
  known?: Impact;
}) {
  const tried = useTried(asked, enabled && !known);
  const last = useRef(known); // shown until the answer comes
  if (known) last.current = known;
  const data = known ?? tried.data ?? last.current;
  const impact = { data, error: known ? undefined : tried.error, isFetching: !known && tried.isFetching, isPending: !data && tried.isPending };
  if (!enabled) return null;
  return (
    <Sheet title={title} aside={impact.isFetching ? <span className="quiet whitespace-nowrap text-[13px]">counting …</span> : undefined}>
      <div className="px-4 py-3">
        <Failed error={impact.error} />
        {impact.isPending && <Loading rows={2} />}
        {impact.data &&
          (impact.data.faults?.length ? (
            <p className="quiet text-sm">Nothing to say while there are faults.</p>
          ) : (
            <ImpactView of={impact.data} most={12} asked={asked} narrow />
          ))}
      </div>
    </Sheet>
  );
});

export function Findings({ of, asked }: { of: Impact; asked?: Asked }) {
  const list = [
    ...of.conflicts_gained.map((c) => ({
      tone: 'text-warning',
      text: `Conflict gained: ${c.title || c.setting} between ${c.policies.join(' and ')}`,
      n: c.device_count,
      part: c.part,
    })),
    ...of.problems_gained.map((p) => ({ tone: 'text-warning', text: `Problem gained: ${p.message}`, n: p.device_count, part: p.part })),
    ...of.conflicts_cleared.map((c) => ({
      tone: 'text-success',
      text: `Conflict cleared: ${c.title || c.setting} between ${c.policies.join(' and ')}`,
      n: c.device_count,
      part: c.part,
    })),
    ...of.problems_cleared.map((p) => ({ tone: 'text-success', text: `Problem cleared: ${p.message}`, n: p.device_count, part: p.part })),
  ];
  if (!list.length) return null;
  return (
    <ul className="flex flex-col gap-1 text-sm">
      {list.map((f, i) => (
        <li key={i} className={f.tone}>
          {f.text}, on{' '}
          <Laptops n={f.n} part={f.part ?? ''} asked={f.part ? asked : undefined} of={f.text}>
            {count(f.n, 'laptop')}
          </Laptops>
        </li>
      ))}
    </ul>
  );
}
