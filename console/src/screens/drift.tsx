// Drift: what was altered on laptops, and what another program sets again and again.
import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { Link, useSearchParams } from 'react-router';
import { api, got, type DriftRecord, type Fight } from '../api/client';
import { keys } from '../api/queries';
import { Empty, Failed, Heads, Loading, Page, Sheet } from '../ui/parts';
import { count, Time, ValueText } from '../ui/words';

export function DriftScreen() {
  const [params, setParams] = useSearchParams();
  const setting = params.get('setting') ?? '';
  const { data, error, isPending } = useQuery({
    queryKey: [...keys.devices, 'drift', setting],
    queryFn: () => got(api.GET('/api/v1/drift', { params: { query: setting ? { setting } : {} } })),
    placeholderData: keepPreviousData,
  });
  return (
    <Page
      title="Drift"
      lead="Values that were altered on laptops after a policy set them. They are put right, unless the policy only wants to know."
      actions={
        setting && (
          <button type="button" className="btn btn-sm" onClick={() => setParams({})}>
            All settings
          </button>
        )
      }
    >
      <Failed error={error} />
      {isPending && <Loading />}
      {data && (
        <div className="flex flex-col gap-4">
          {data.fights.length > 0 && <Fights list={data.fights} />}
          <Sheet title={setting ? `Altered: ${setting}` : 'Altered'} aside={data.records.length > 0 && `the newest ${data.records.length}`}>
            {data.records.length === 0 ? (
              <Empty>Nothing was altered on a laptop. What is altered shows here, with who did it where the laptop can tell.</Empty>
            ) : (
              <DriftTable list={data.records} />
            )}
          </Sheet>
        </div>
      )}
    </Page>
  );
}

/** Settings that are put right again and again, with what to do about it. */
function Fights({ list }: { list: Fight[] }) {
  return (
    <Sheet title="Another program sets them, too" aside="within the last day">
      <ul className="py-1.5 text-sm">
        {list.map((f) => (
          <li key={f.setting} className="px-4 py-1.5">
            <Link className="font-medium hover:underline" to={`/drift?setting=${f.setting}`}>
              {f.title || f.setting}
            </Link>{' '}
            was put right {count(f.times, 'time')} on {f.devices.slice(0, 5).join(', ')}
            {f.devices.length > 5 && ` and ${f.devices.length - 5} more`}.
            <span className="quiet block text-[13px]">
              Remove it from{' '}
              {f.policies.map((id, i) => (
                <span key={id}>
                  {i > 0 && ', '}
                  <Link className="link" to={`/policies/${id}`}>
                    {id}
                  </Link>
                </span>
              ))}
              , or stop the other program on those laptops.
            </span>
          </li>
        ))}
      </ul>
    </Sheet>
  );
}

export function DriftTable({ list, device }: { list: DriftRecord[]; device?: boolean }) {
  return (
    <div className="overflow-x-auto">
      <table className="table table-sm">
        <Heads of={[...(device ? [] : ['Laptop']), 'Setting', 'Found', 'Wanted', 'Outcome', 'Altered by', 'Noticed']} />
        <tbody>
          {list.map((d) => (
            <tr key={`${d.device} ${d.setting} ${d.at}`}>
              {!device && (
                <td>
                  <Link className="id link-hover link" to={`/devices/${d.device}`}>
                    {d.device}
                  </Link>
                </td>
              )}
              <td title={d.setting}>{d.title || d.setting}</td>
              <td>{d.found === undefined ? <span className="quiet">nothing in force</span> : <ValueText of={d.found} />}</td>
              <td>{d.wanted === undefined ? <span className="quiet">left to the laptop</span> : <ValueText of={d.wanted} />}</td>
              <td>{d.repaired ? 'put right' : 'left, as the policy says'}</td>
              <td>{d.by || <span className="quiet">not known</span>}</td>
              <td className="quiet whitespace-nowrap">
                <Time at={d.at} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
