// Where people, units, groups and laptops come from.
import { Plus } from 'lucide-react';
import { Link } from 'react-router';
import { useSources } from '../../api/queries';
import { Empty, Failed, Heads, Loading, Page } from '../../ui/parts';
import { count, number, Time } from '../../ui/words';

export const kindWord: Record<string, string> = { scim: 'SCIM: a client writes', ldap: 'LDAP: is asked', csv: 'CSV: tables are sent' };
export const stateWord: Record<string, string> = { new: 'not taken yet', on: 'on', paused: 'paused' };
export const thingWord: Record<string, [string, string]> = {
  people: ['person', 'people'],
  devices: ['laptop', 'laptops'],
  groups: ['group', 'groups'],
  units: ['unit', 'units'],
};

export function SourcesScreen() {
  const list = useSources();
  return (
    <Page
      title="Sources"
      lead="Where people, units, groups and laptops come from. What a source brings stays apart from what is edited here."
      actions={
        <Link to="/sources/new" className="btn btn-primary btn-sm">
          <Plus size={15} aria-hidden /> New source
        </Link>
      }
    >
      <Failed error={list.error} />
      {list.isPending && <Loading />}
      {list.data && (
        <div className="sheet overflow-x-auto">
          {list.data.length === 0 ? (
            <Empty
              action={
                <Link to="/sources/new" className="btn btn-sm">
                  Set one up
                </Link>
              }
            >
              No sources yet: people and laptops are what was imported and edited here. A source keeps them up to date, from the company’s directory or
              inventory.
            </Empty>
          ) : (
            <table className="table table-sm">
              <caption className="sr-only">Sources</caption>
              <Heads of={['Source', 'Kind', 'State', 'Has', 'Needs a look', 'Last reading']} />
              <tbody>
                {list.data.map((s) => (
                  <tr key={s.id} className="relative hover:bg-base-200">
                    <th scope="row">
                      <Link to={`/sources/${s.id}`} className="row-link font-medium hover:underline">
                        {s.title}
                      </Link>
                      <div className="id quiet">{s.id}</div>
                    </th>
                    <td>{kindWord[s.kind]}</td>
                    <td>{stateWord[s.state]}</td>
                    <td>{s.counts.map((c) => count(c.here, ...thingWord[c.kind]!)).join(', ') || <span className="quiet">nothing</span>}</td>
                    <td className="text-warning">
                      {[
                        s.running?.state === 'waiting' && 'a reading waits to be looked at',
                        s.counts.some((c) => c.left > 0) && `${number(s.counts.reduce((n, c) => n + c.left, 0))} left`,
                        s.counts.some((c) => c.faulty > 0) && `${number(s.counts.reduce((n, c) => n + c.faulty, 0))} faulty`,
                        s.runs[0]?.state === 'failed' && 'the last reading failed',
                      ]
                        .filter(Boolean)
                        .join(', ') || <span className="quiet">nothing</span>}
                    </td>
                    <td>
                      <Time at={s.read_at} />
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
        </div>
      )}
    </Page>
  );
}
