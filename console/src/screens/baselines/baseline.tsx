// One baseline: how laptops stand to it, by unit, by setting and over time.
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useParams, useSearchParams } from 'react-router';
import { api, got, isBaseline, type BaselineDoc, type Compliance, type ItemCompliance } from '../../api/client';
import { keys, useMay } from '../../api/queries';
import { Dialog, Empty, Failed, Heads, Id, Loading, Page, Sheet } from '../../ui/parts';
import { Course } from '../../ui/course';
import { count, number, Time, ValueText } from '../../ui/words';
import { BaselineForm } from './form';
import { baselinesKey } from './index';
import { ShareBar } from './share';

export function BaselineScreen() {
  const { id = '' } = useParams();
  const [params, setParams] = useSearchParams();
  const unit = params.get('unit') ?? '';
  const { data, error, isPending } = useQuery({
    queryKey: [...baselinesKey, id, 'compliance', unit],
    queryFn: () => got(api.GET('/api/v1/baselines/{id}/compliance', { params: { path: { id }, query: unit ? { unit } : {} } })),
    placeholderData: keepPreviousData,
  });
  const set = (part: Record<string, string>) =>
    setParams((was) => {
      const next = new URLSearchParams(was);
      for (const [k, v] of Object.entries(part)) {
        if (v) next.set(k, v);
        else next.delete(k);
      }
      return next;
    });
  const b = data?.baseline;
  return (
    <Page
      title={b?.title || id}
      lead={
        b && (
          <>
            <Id copy>{b.id}</Id>
            {b.why && <> · {b.why}</>}
            {b.alert_below !== undefined && <> · somebody is told below {number(b.alert_below)} %</>}
          </>
        )
      }
      actions={b && <Edit id={id} />}
    >
      <Failed error={error} />
      {isPending && <Loading />}
      {data && <Body c={data} id={id} unit={unit} params={params} set={set} />}
    </Page>
  );
}

function Edit({ id }: { id: string }) {
  const may = useMay('write');
  const [open, setOpen] = useState(false);
  const live = useQuery({
    queryKey: [...keys.estate, 'objects', 'baselines', id],
    queryFn: () => got(api.GET('/api/v1/estate/{kind}', { params: { path: { kind: 'baselines' }, query: { limit: 1000 } } })),
    enabled: open,
  });
  if (!may) return null;
  const doc: BaselineDoc | undefined = live.data?.items.flatMap((o) => (o.body && isBaseline(o.body) && o.body.id === id ? [o.body] : []))[0];
  return (
    <>
      <button type="button" className="btn btn-sm" onClick={() => setOpen(true)}>
        Edit …
      </button>
      <Dialog open={open && !!doc} onClose={() => setOpen(false)} title={`The baseline ${doc?.title || id}`} wide>
        {doc && <BaselineForm start={doc} onDone={() => setOpen(false)} />}
      </Dialog>
    </>
  );
}

interface Part {
  c: Compliance;
  id: string;
  unit: string;
  params: URLSearchParams;
  set: (part: Record<string, string>) => void;
}

function Body({ c, id, unit, params, set }: Part) {
  const n = c.baseline.count;
  return (
    <div className="flex flex-col gap-4">
      <div className="sheet flex flex-col gap-3 px-4 py-3">
        <ShareBar of={n} line={c.baseline.alert_below} below={c.baseline.below} />
        <div className="flex flex-wrap gap-x-6 gap-y-1 text-sm">
          {(
            [
              ['complies', 'comply', n.complies],
              ['differs', 'differ', n.differs],
              ['unknown', 'not known: they have not said what they have', n.unknown],
            ] as const
          ).map(([state, word, k]) => (
            <button key={state} type="button" className="cursor-pointer hover:underline" onClick={() => set({ state, setting: '' })}>
              <strong className="tabular-nums">{number(k)}</strong> {word}
            </button>
          ))}
          <span className="quiet">
            of {count(n.laptops, 'laptop')}
            {unit && ` in ${c.units.find((u) => u.unit === unit)?.title || unit}`}
          </span>
          {unit && (
            <button type="button" className="link cursor-pointer" onClick={() => set({ unit: '' })}>
              all units
            </button>
          )}
        </div>
        {c.days.length > 1 && <Course days={c.days.map((d) => ({ day: d.day, percent: d.count.percent }))} />}
      </div>
      <Items list={c.items} set={set} />
      <div className="grid items-start gap-4 lg:grid-cols-2">
        <Sheet title="By unit" aside="each with what is below it">
          <div className="overflow-x-auto">
            <table className="table table-sm">
              <Heads of={['Unit', 'Comply', 'Differ']} />
              <tbody>
                {c.units.map((u) => (
                  <tr key={u.unit}>
                    <th scope="row" className="font-normal">
                      <button type="button" className="link cursor-pointer text-left" onClick={() => set({ unit: u.unit })}>
                        {u.title || u.unit}
                      </button>
                    </th>
                    <td className="min-w-48">
                      <ShareBar of={u.count} />
                    </td>
                    <td className="tabular-nums">{number(u.count.differs)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        </Sheet>
        <Laptops id={id} unit={unit} params={params} />
      </div>
    </div>
  );
}

/** The settings, those first that differ most, with what to do where a policy wants something else. */
function Items({ list, set }: { list: ItemCompliance[]; set: Part['set'] }) {
  return (
    <Sheet title="By setting" aside="the worst first">
      <div className="overflow-x-auto">
        <table className="table table-sm">
          <Heads of={['Setting', 'Wanted', 'Severity', 'Comply', 'Differ', 'Overridden', 'Not known', 'Not supported']} />
          <tbody>
            {list.map((x) => {
              const open = (n: number) =>
                n === 0 ? (
                  <span className="quiet">0</span>
                ) : (
                  <button type="button" className="link cursor-pointer tabular-nums" onClick={() => set({ setting: x.setting, state: '' })}>
                    {number(n)}
                  </button>
                );
              return (
                <tr key={x.setting}>
                  <th scope="row" className="font-normal">
                    {x.title || x.setting}
                    <div className="id quiet">{x.setting}</div>
                    {x.policies.length > 0 && (
                      <div className="text-[13px] text-warning">
                        {x.policies.map((p, i) => (
                          <span key={p}>
                            {i > 0 && ', '}
                            <Link className="link" to={`/policies/${p}`}>
                              {p}
                            </Link>
                          </span>
                        ))}{' '}
                        {x.policies.length > 1 ? 'want' : 'wants'} another value. Alter it there, or what the baseline wants.
                      </div>
                    )}
                  </th>
                  <td>
                    <ValueText of={x.value} />
                    {x.on_drift === 'repair' && <div className="quiet text-[13px]">put right where no policy decides</div>}
                  </td>
                  <td>{x.severity}</td>
                  <td className="tabular-nums">{number(x.complies)}</td>
                  <td>{open(x.differs)}</td>
                  <td>{open(x.overridden)}</td>
                  <td>{open(x.not_reported)}</td>
                  <td>{open(x.unsupported)}</td>
                </tr>
              );
            })}
          </tbody>
        </table>
      </div>
    </Sheet>
  );
}

const verdictWords: Record<string, string> = {
  differs: 'differs',
  overridden: 'a policy wants otherwise',
  'not-reported': 'not known',
  unsupported: 'not supported',
};
const states = ['complies', 'differs', 'unknown'] as const;

function Laptops({ id, unit, params }: { id: string; unit: string; params: URLSearchParams }) {
  const setting = params.get('setting') ?? '';
  const state = states.find((s) => s === params.get('state')) ?? (setting ? undefined : 'differs');
  const { data, error, isPending } = useQuery({
    queryKey: [...baselinesKey, id, 'laptops', unit, state, setting],
    queryFn: () =>
      got(
        api.GET('/api/v1/baselines/{id}/laptops', {
          params: { path: { id }, query: { ...(unit ? { unit } : {}), ...(state ? { state } : {}), ...(setting ? { setting } : {}) } },
        }),
      ),
    placeholderData: keepPreviousData,
  });
  const word = setting
    ? `Laptops on which ${setting} is not as wanted`
    : { complies: 'Laptops that comply', differs: 'Laptops that differ', unknown: 'Laptops that have not said' }[state ?? 'differs'];
  return (
    <Sheet title={word} aside={data && count(data.items.length, 'laptop') + (data.next ? ' and more' : '')}>
      <Failed error={error} />
      {isPending && <Loading />}
      {data?.items.length === 0 && <Empty>There is none.</Empty>}
      {!!data?.items.length && (
        <ul className="max-h-[28rem] overflow-auto py-1.5 text-sm" tabIndex={0} aria-label={word}>
          {data.items.map((l) => (
            <li key={l.device} className="flex items-baseline justify-between gap-3 px-4 py-1">
              <span className="min-w-0">
                <Link className="id link-hover link" to={`/devices/${l.device}`}>
                  {l.device}
                </Link>{' '}
                <span className="quiet">
                  {l.failing
                    .filter((f) => f.verdict !== 'unsupported')
                    .map((f) => `${f.title || f.setting}: ${verdictWords[f.verdict]}`)
                    .join(' · ')}
                </span>
              </span>
              <span className="quiet shrink-0 text-[13px]">
                <Time at={l.at} />
              </span>
            </li>
          ))}
        </ul>
      )}
    </Sheet>
  );
}
