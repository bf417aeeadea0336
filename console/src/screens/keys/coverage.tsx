// Encryption: how far laptops are encrypted with a key that can be found again, what has to be looked at, and who can open the keys.
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { Link, useSearchParams } from 'react-router';
import { api, got } from '../../api/client';
import { useRecoveryFindings } from '../../api/queries';
import { Empty, Failed, Heads, Loading, Page, Sheet } from '../../ui/parts';
import { Course } from '../../ui/course';
import { count, number, Time } from '../../ui/words';
import { Recipients } from './recipients';
import {
  findingWords,
  groups,
  recoveryKey,
  stateWords,
  titleOf,
  type CoverageCounts,
  type CoverageDay,
  type Group,
  type RecoveryFinding,
  type UnitCoverage,
} from './words';

export function CoverageScreen() {
  const [params, setParams] = useSearchParams();
  const unit = params.get('unit') ?? '';
  const group = groups.find((g) => g.group === params.get('group'))?.group;
  const units = useQuery({ queryKey: [...recoveryKey, 'coverage'], queryFn: () => got(api.GET('/api/v1/coverage')), placeholderData: keepPreviousData });
  const open = (of: { unit: string; group: Group }) => setParams({ ...(of.unit ? { unit: of.unit } : {}), group: of.group });
  return (
    <Page
      title="Encryption"
      lead="How far laptops are encrypted with a recovery key that can be found again. Every number opens its laptops."
      actions={
        <>
          {(['html', 'markdown', 'csv'] as const).map((format) => (
            <a
              key={format}
              className="btn btn-sm"
              href={`/api/v1/coverage/report?format=${format}${unit ? `&unit=${encodeURIComponent(unit)}` : ''}`}
              target="_blank"
              rel="noreferrer"
            >
              {{ html: 'Report for auditors', markdown: 'Markdown', csv: 'CSV' }[format]}
            </a>
          ))}
          <Link to="/keys" className="btn btn-primary btn-sm">
            Find a key
          </Link>
        </>
      }
    >
      <Failed error={units.error} />
      {units.isPending && <Loading />}
      {units.data?.length === 0 && (
        <div className="sheet">
          <Empty>There is no laptop that you see. Laptops come in from a source, or with an invitation.</Empty>
        </div>
      )}
      {!!units.data?.length && <Parts units={units.data} open={open} chosen={{ unit, group }} />}
    </Page>
  );
}

/** The parts of the page, shown together once all of them are known: what comes late would push down what is read already. */
function Parts({ units, open, chosen }: { units: UnitCoverage[]; open: Open; chosen: Chosen }) {
  const whole = units[0]!.unit;
  const days = useQuery({
    queryKey: [...recoveryKey, 'days', whole],
    queryFn: () => got(api.GET('/api/v1/coverage/days', { params: { query: { unit: whole } } })),
  });
  const findings = useRecoveryFindings();
  if (days.isPending || findings.isPending) return <Loading />;
  return (
    <>
      <Failed error={days.error} />
      <Whole of={units[0]!} days={days.data ?? []} open={open} />
      <Findings list={findings.data ?? []} error={findings.error} />
      <Units list={units} open={open} chosen={chosen} />
      {chosen.group && <Laptops unit={chosen.unit} group={chosen.group} of={units.find((u) => u.unit === chosen.unit)} />}
      <Recipients />
    </>
  );
}

type Open = (of: { unit: string; group: Group }) => void;
type Chosen = { unit: string; group: Group | undefined };

const share = (c: CoverageCounts) => (c.demanded === 0 ? undefined : Math.min(100, (100 * c.escrowed) / c.demanded));

/** The share of the laptops that policies want encrypted, and how it went. */
function Whole({ of, days, open }: { of: UnitCoverage; days: CoverageDay[]; open: Open }) {
  const c = of.counts;
  const s = share(c);
  return (
    <div className="sheet flex flex-col gap-3 px-4 py-3">
      <div className="flex flex-wrap items-baseline gap-x-6 gap-y-1">
        <span className="text-2xl font-semibold tabular-nums">{s === undefined ? '–' : `${number(Math.round(10 * s) / 10)} %`}</span>
        <span className="text-sm">
          {s === undefined
            ? `Nothing demands encryption of the ${count(c.all, 'laptop')}.`
            : `of the ${count(c.demanded, 'laptop')} that policies want encrypted are, with a recovery key that is stored.`}
        </span>
      </div>
      {c.demanded > 0 && <Bar of={c} />}
      <ul className="flex flex-wrap gap-x-6 gap-y-1 text-sm">
        {groups
          .filter((g) => 'act' in g && c[g.field] > 0)
          .map((g) => (
            <li key={g.group}>
              <button type="button" className="cursor-pointer hover:underline" onClick={() => open({ unit: '', group: g.group })}>
                <strong className="tabular-nums">{number(c[g.field])}</strong> {g.word.toLowerCase()}
              </button>
            </li>
          ))}
      </ul>
      {days.length > 1 && <Course days={days.map((d) => ({ day: d.day, percent: share(d.counts) ?? 0 }))} />}
    </div>
  );
}

const parts = [
  { field: 'escrowed', word: 'covered', color: 'bg-success' },
  { field: 'not_escrowed', word: 'encrypted, no key stored', color: 'bg-warning' },
  { field: 'not_encrypted', word: 'not yet', color: 'bg-info' },
  { field: 'cannot', word: 'cannot', color: 'bg-error' },
  { field: 'never_reported', word: 'not reported', color: 'bg-base-content/25' },
] as const;

function Bar({ of: c, thin = false }: { of: CoverageCounts; thin?: boolean }) {
  const all = Math.max(
    c.demanded,
    parts.reduce((n, p) => n + c[p.field], 0),
    1,
  );
  const words = parts.filter((p) => c[p.field] > 0).map((p) => `${number(c[p.field])} ${p.word}`);
  return (
    <div
      className={`flex w-full overflow-hidden rounded bg-base-300 ${thin ? 'h-2' : 'h-3'}`}
      role="img"
      aria-label={words.join(', ') || 'nothing is demanded'}
      title={words.join(', ')}
    >
      {parts.map((p) => (
        <div key={p.field} className={p.color} style={{ width: `${(100 * c[p.field]) / all}%` }} />
      ))}
    </div>
  );
}

function Findings({ list, error }: { list: RecoveryFinding[]; error: unknown }) {
  if (!list.length) return <Failed error={error} />;
  return (
    <Sheet title="Has to be looked at" aside={count(list.length, 'finding')}>
      <ul className="divide-y divide-base-300 text-sm">
        {list.map((f) => (
          <li key={f.code + (f.what ?? '')} className="px-4 py-2">
            <strong className="tabular-nums">{count(f.laptops, 'laptop')}</strong> {findingWords[f.code]}
            {f.what && (
              <>
                {' '}
                (<span className="break-all">{f.what}</span>
                {f.day && <>, by {f.day}</>})
              </>
            )}
            :{' '}
            {f.devices.slice(0, 6).map((d, i) => (
              <span key={d}>
                {i > 0 && ', '}
                <Link className="id link" to={`/devices/${encodeURIComponent(d)}`}>
                  {d}
                </Link>
              </span>
            ))}
            {f.laptops > 6 && <span className="quiet"> and {number(f.laptops - 6)} more</span>}
          </li>
        ))}
      </ul>
    </Sheet>
  );
}

function Units({ list, open, chosen }: { list: UnitCoverage[]; open: Open; chosen: Chosen }) {
  // What no laptop is in has no column.
  const columns = groups.filter((g) => g.group !== 'escrowed' && (!('act' in g) || list[0]!.counts[g.field] > 0));
  return (
    <Sheet title="By unit" aside="each with what is below it">
      <div className="overflow-x-auto">
        <table className="table table-sm">
          <caption className="sr-only">How far the laptops of each unit are covered</caption>
          <Heads of={['Unit', 'Covered', ...columns.map((g) => g.word)]} />
          <tbody>
            {list.map((u) => {
              const s = share(u.counts);
              return (
                <tr key={u.unit}>
                  <th scope="row" className="font-normal whitespace-nowrap">
                    <span style={{ paddingLeft: `${u.depth * 14}px` }}>
                      <Link className="link-hover link" to={`/units/${encodeURIComponent(u.unit)}`}>
                        {u.title || u.unit}
                      </Link>
                    </span>
                  </th>
                  <td className="min-w-44">
                    <div className="flex items-center gap-2">
                      <Bar of={u.counts} thin />
                      <button
                        type="button"
                        className="link w-16 shrink-0 cursor-pointer text-right text-[13px] whitespace-nowrap tabular-nums"
                        onClick={() => open({ unit: u.unit, group: 'escrowed' })}
                      >
                        {s === undefined ? '–' : `${number(Math.round(10 * s) / 10)} %`}
                      </button>
                    </div>
                  </td>
                  {columns.map((g) => {
                    const n = u.counts[g.field];
                    const is = chosen.group === g.group && chosen.unit === u.unit;
                    return (
                      <td key={g.group} className={`tabular-nums ${is ? 'bg-primary/10' : ''}`}>
                        {n === 0 ? (
                          <span className="quiet">0</span>
                        ) : (
                          <button
                            type="button"
                            className={`link cursor-pointer ${'act' in g ? 'font-semibold' : ''}`}
                            aria-label={`${number(n)}: ${g.title.toLowerCase()} of ${u.title || u.unit}`}
                            onClick={() => open({ unit: u.unit, group: g.group })}
                          >
                            {number(n)}
                          </button>
                        )}
                      </td>
                    );
                  })}
                </tr>
              );
            })}
          </tbody>
        </table>
      </div>
    </Sheet>
  );
}

function Laptops({ unit, group, of }: { unit: string; group: Group; of: UnitCoverage | undefined }) {
  const { data, error, isPending } = useQuery({
    queryKey: [...recoveryKey, 'laptops', unit, group],
    queryFn: () => got(api.GET('/api/v1/coverage/laptops', { params: { query: { group, ...(unit ? { unit } : {}) } } })),
    placeholderData: keepPreviousData,
  });
  const title = groups.find((g) => g.group === group)!.title;
  return (
    <Sheet title={`${title}${of ? `: ${of.title || of.unit}` : ''}`} aside={data && count(data.items.length, 'laptop') + (data.next ? ' and more' : '')}>
      <Failed error={error} />
      {isPending && <Loading />}
      {data?.items.length === 0 && <Empty>There is none.</Empty>}
      {!!data?.items.length && (
        <div className="max-h-[32rem] overflow-auto" tabIndex={0} role="region" aria-label={title}>
          <table className="table table-sm">
            <caption className="sr-only">{title}</caption>
            <Heads of={['Laptop', 'Model', 'Owner', 'Unit', 'Disk', 'Key since', 'Reported']} />
            <tbody>
              {data.items.map((l) => (
                <tr key={l.device}>
                  <th scope="row" className="font-normal whitespace-nowrap">
                    <Link className="id link" to={`/devices/${encodeURIComponent(l.device)}`}>
                      {l.device}
                    </Link>
                  </th>
                  <td>{l.model || '–'}</td>
                  <td>{titleOf(l.owner) || <span className="quiet">shared</span>}</td>
                  <td>{titleOf(l.unit)}</td>
                  <td>
                    {l.volumes.length === 0 && <span className="quiet">not reported</span>}
                    {l.volumes.map((v) => (
                      <div key={v.id}>
                        {l.volumes.length > 1 && `${v.name}: `}
                        {stateWords[v.state]}
                        {(v.reason || v.weak) && <span className="quiet"> — {v.reason || v.weak}</span>}
                      </div>
                    ))}
                  </td>
                  <td>
                    {l.key_since ? <Time at={l.key_since} /> : '–'}
                    {l.used_at && (
                      <div className="text-[13px] text-warning">
                        shown <Time at={l.used_at} />
                      </div>
                    )}
                  </td>
                  <td>{l.seen_at ? <Time at={l.seen_at} /> : <span className="quiet">never</span>}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </Sheet>
  );
}
