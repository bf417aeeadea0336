// A laptop at a moment: what was decided, by whom, who approved it, and what the laptop reported. It prints.
import { useQuery } from '@tanstack/react-query';
import { Check, Minus, Printer, TriangleAlert } from 'lucide-react';
import { Link, useParams, useSearchParams } from 'react-router';
import { api, got, type Past, type PastSetting } from '../api/client';
import { useAreas } from '../api/queries';
import { Empty, Failed, Heads, Id, Loading, Page, Sheet } from '../ui/parts';
import { count, exact, minute, now, Status, ValueText } from '../ui/words';

export function PastScreen() {
  const { id = '' } = useParams();
  const [params, setParams] = useSearchParams();
  const at = params.get('at') ?? minute(new Date(now() - 24 * 3600_000));
  const area = params.get('area') ?? '';
  const areas = useAreas().data ?? [];
  const past = useQuery({
    queryKey: ['past', id, at, area],
    queryFn: () =>
      got(api.GET('/api/v1/devices/{id}/past', { params: { path: { id }, query: { at: new Date(at).toISOString(), ...(area ? { area } : {}) } } })),
    retry: false,
  });
  const set = (name: string, value: string) =>
    setParams(
      (p) => {
        if (value) p.set(name, value);
        else p.delete(name);
        return p;
      },
      { replace: true },
    );
  return (
    <Page
      title={
        <>
          <Id>{id}</Id> at {exact(new Date(at).toISOString())}
        </>
      }
      lead={
        <>
          What was decided then, by whom, and what the laptop reported.{' '}
          <Link className="link print:hidden" to={`/devices/${id}`}>
            As it is now
          </Link>
        </>
      }
      actions={
        <span className="flex flex-wrap items-center gap-2 print:hidden">
          <label className="flex items-center gap-2 text-sm">
            Moment
            <input
              type="datetime-local"
              className="input input-sm"
              value={minute(new Date(at))}
              max={minute(new Date(now()))}
              onChange={(e) => set('at', e.target.value)}
            />
          </label>
          <select aria-label="Settings" className="select select-sm w-44" value={area} onChange={(e) => set('area', e.target.value)}>
            <option value="">all settings</option>
            {['encryption', 'security', 'configuration'].map((k) => (
              <option key={k} value={k}>
                kind: {k}
              </option>
            ))}
            {areas.map((a) => (
              <option key={a} value={a}>
                {a}
              </option>
            ))}
          </select>
          <button type="button" className="btn btn-sm" onClick={() => window.print()}>
            <Printer size={14} aria-hidden /> Print
          </button>
        </span>
      }
    >
      <Failed error={past.error} />
      {past.isPending && <Loading />}
      {past.data && <Body p={past.data} />}
    </Page>
  );
}

function Body({ p }: { p: Past }) {
  return (
    <>
      <Sheet title="The laptop" aside={`revision ${p.revision}`}>
        <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 px-4 py-3 text-sm">
          <dt className="quiet">Owner</dt>
          <dd>{p.owner || 'none'}</dd>
          <dt className="quiet">Unit</dt>
          <dd>{p.units.join(' / ')}</dd>
          <dt className="quiet">System</dt>
          <dd>
            {p.os} {p.os_version}
          </dd>
          <dt className="quiet">Check-ins</dt>
          <dd>
            {!p.presence
              ? 'it had never checked in'
              : p.presence.covers
                ? `as usual, from ${exact(p.presence.since)} to ${exact(p.presence.until)}`
                : `the last one known was at ${exact(p.presence.until)}`}
          </dd>
          {p.exceptions.map((x) => (
            <div key={x.id} className="contents">
              <dt className="quiet">Exception</dt>
              <dd>
                <span className="id">{x.id}</span>: {x.setting}, approved by {x.approved_by} on {x.approved_on}, until {x.until} – {x.reason}
              </dd>
            </div>
          ))}
        </dl>
      </Sheet>
      <Sheet title="Settings" aside={count(p.settings.length, 'setting')}>
        {p.settings.length === 0 ? (
          <Empty>Nothing was decided for this laptop then, among the settings that are shown.</Empty>
        ) : (
          <div className="overflow-x-auto">
            <table className="table table-sm">
              <caption className="sr-only">What was decided, and what the laptop reported</caption>
              <Heads of={['Setting', 'Decided', 'Reported by the laptop', 'Who decided, who approved']} />
              <tbody>
                {p.settings.map((s) => (
                  <Row key={s.setting} s={s} />
                ))}
              </tbody>
            </table>
          </div>
        )}
      </Sheet>
    </>
  );
}

function Row({ s }: { s: PastSetting }) {
  return (
    <tr>
      <th scope="row" className="align-top">
        <div>{s.title || s.setting}</div>
        <div className="id quiet">{s.setting}</div>
      </th>
      <td className="align-top">{s.status === 'set' ? <ValueText of={s.value} className="font-semibold" /> : <Status of={s.status} />}</td>
      <td className="align-top">
        {s.in_force ? (
          <span className="text-success">
            <Check size={14} className="mr-1 inline" aria-hidden />
            in force
          </span>
        ) : s.reported !== undefined ? (
          <span className="text-warning">
            <TriangleAlert size={14} className="mr-1 inline" aria-hidden />
            <ValueText of={s.reported} />
          </span>
        ) : (
          <span className="quiet">
            <Minus size={14} className="mr-1 inline" aria-hidden />
            nothing
          </span>
        )}
        {s.since && (
          <div className="quiet text-[13px]">
            since {exact(s.since)}
            {s.until && `, until ${exact(s.until)}`}
          </div>
        )}
      </td>
      <td className="align-top">
        {s.exception && (
          <div>
            the exception <span className="id">{s.exception}</span>
          </div>
        )}
        {s.decisions.map((d) => (
          <div key={d.policy} className="mb-1">
            <Link className="link-hover link" to={`/policies/${d.policy}/history`}>
              {d.title || d.policy}
            </Link>{' '}
            <span className="quiet text-[13px]">
              {d.rollout ? 'by a rollout under way' : `version ${d.version}`}, published by {d.by} on {exact(d.at)}
            </span>
            {d.change && (
              <div className="text-[13px]">
                <Link className="link-hover link" to={`/changes/${d.change}`}>
                  {d.why}
                </Link>
                {d.approvals.map((a) => (
                  <span key={a.by} className="quiet">
                    {' '}
                    · {a.verdict === 'approve' ? 'approved' : 'declined'} by {a.by} on {exact(a.at)}
                  </span>
                ))}
              </div>
            )}
          </div>
        ))}
      </td>
    </tr>
  );
}
