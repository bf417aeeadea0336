// All policies, with whom each reaches.
import { Plus } from 'lucide-react';
import { Link } from 'react-router';
import { useOverview, usePolicies } from '../api/queries';
import { useOpenChange } from '../ui/change';
import { Empty, Failed, Loading, Page } from '../ui/parts';
import { useWords } from '../ui/typed';
import { count, number, Status } from '../ui/words';

export function PoliciesScreen() {
  const { id, change } = useOpenChange();
  const { q, typed, type } = useWords();
  const list = usePolicies(id);
  const lints = Map.groupBy(useOverview().data?.lints ?? [], (l) => l.policy);
  const shown = (list.data?.items ?? []).filter((p) => [p.id, p.title, p.why, ...p.settings].join(' ').toLowerCase().includes(q.toLowerCase()));
  return (
    <Page
      title="Policies"
      lead={list.data ? `${count(list.data.total, 'policy', 'policies')}${change ? `, as they would be with ‘${change.title}’` : ''}` : ' '}
      actions={
        <Link to="/policies/new" className="btn btn-primary btn-sm">
          <Plus size={15} aria-hidden /> New policy
        </Link>
      }
    >
      <input
        type="search"
        aria-label="Search policies"
        placeholder="Name, reason or setting"
        className="input input-sm w-72"
        value={typed}
        onChange={(e) => type(e.target.value)}
      />
      <Failed error={list.error} />
      {list.isPending && <Loading rows={10} />}
      {list.data && (
        <div className="sheet overflow-x-auto">
          {shown.length === 0 ? (
            <Empty
              action={
                <Link to="/policies/new" className="btn btn-sm">
                  Write one
                </Link>
              }
            >
              {q ? 'No policy mentions that.' : 'No policies yet. A policy holds settings for one purpose, and says who gets them.'}
            </Empty>
          ) : (
            <table className="table table-sm">
              <caption className="sr-only">Policies</caption>
              <thead>
                <tr>
                  <th scope="col">Policy</th>
                  <th scope="col">Kind</th>
                  <th scope="col">State</th>
                  <th scope="col">Who gets it</th>
                  <th scope="col" className="text-right">
                    Priority
                  </th>
                  <th scope="col" className="text-right">
                    Settings
                  </th>
                  <th scope="col" className="text-right">
                    Laptops
                  </th>
                  <th scope="col">Needs a look</th>
                </tr>
              </thead>
              <tbody>
                {shown.map((p) => (
                  <tr key={p.id} className="relative hover:bg-base-200">
                    <th scope="row">
                      <Link to={`/policies/${p.id}`} className="row-link font-medium hover:underline">
                        {p.title || p.id}
                      </Link>
                      <div className="id quiet">{p.id}</div>
                    </th>
                    <td>{p.kind}</td>
                    <td>
                      <Status of={p.state} />
                      {p.version === 0 && <div className="text-[13px] text-info">in the open change</div>}
                    </td>
                    <td className="max-w-72">
                      <span className="id">{p.include.join(', ') || 'nobody'}</span>
                      {p.exclude.length > 0 && <div className="id quiet">not {p.exclude.join(', ')}</div>}
                    </td>
                    <td className="text-right tabular-nums">{p.priority}</td>
                    <td className="text-right tabular-nums">{p.settings.length}</td>
                    <td className="text-right font-medium tabular-nums">{number(p.devices)}</td>
                    <td className="text-[13px] text-warning">
                      {p.conflicts > 0 && <div>{count(p.conflicts, 'conflict', 'conflicts')}</div>}
                      {p.state === 'active' && p.devices === 0 && <div>reaches nobody</div>}
                      {(lints.get(p.id) ?? []).filter((l) => l.setting).length > 0 && (
                        <div>{count((lints.get(p.id) ?? []).filter((l) => l.setting).length, 'entry without effect', 'entries without effect')}</div>
                      )}
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
