// All groups: what each is made of, who is in it, where it is used.
import { Plus } from 'lucide-react';
import { Link } from 'react-router';
import { useGroups } from '../../api/queries';
import { useOpenChange } from '../../ui/change';
import { Empty, Failed, Loading, Page } from '../../ui/parts';
import { detachText } from '../units/detach';
import { useWords } from '../../ui/typed';
import { count, number } from '../../ui/words';

export function GroupsScreen() {
  const { change } = useOpenChange();
  const list = useGroups(change);
  const { q, typed, type } = useWords();
  const shown = (list.data ?? []).filter((g) => `${g.id} ${g.title} ${g.rule}`.toLowerCase().includes(q.toLowerCase()));
  return (
    <Page
      title="Groups"
      lead={list.data ? `${count(list.data.length, 'group')}${change ? `, as they would be with ‘${change.title}’` : ''}` : ' '}
      actions={
        <Link to="/groups/new" className="btn btn-primary btn-sm">
          <Plus size={15} aria-hidden /> New group
        </Link>
      }
    >
      <input
        type="search"
        aria-label="Search groups"
        placeholder="Name, id or rule"
        className="input input-sm w-72"
        value={typed}
        onChange={(e) => type(e.target.value)}
      />
      <Failed error={list.error} />
      {list.isPending && <Loading />}
      {list.data && (
        <div className="sheet overflow-x-auto">
          {shown.length === 0 ? (
            <Empty
              action={
                <Link to="/groups/new" className="btn btn-sm">
                  Make one
                </Link>
              }
            >
              {q ? 'No group mentions that.' : 'No groups yet. A group is a list, a rule, or both: every field laptop on release 12 or later, say.'}
            </Empty>
          ) : (
            <table className="table table-sm">
              <caption className="sr-only">Groups</caption>
              <thead>
                <tr>
                  <th scope="col">Group</th>
                  <th scope="col">Of</th>
                  <th scope="col">Made of</th>
                  <th scope="col" className="text-right">
                    Members
                  </th>
                  <th scope="col">Needs a look</th>
                  <th scope="col">From</th>
                </tr>
              </thead>
              <tbody>
                {shown.map((g) => (
                  <tr key={g.id} className="relative hover:bg-base-200">
                    <th scope="row">
                      <Link to={`/groups/${g.id}`} className="row-link font-medium hover:underline">
                        {g.title || g.id}
                      </Link>
                      <div className="id quiet">{g.id}</div>
                    </th>
                    <td>{g.of === 'devices' ? 'laptops' : 'people'}</td>
                    <td className="max-w-96">
                      {g.rule && <code className="id block truncate">{g.rule}</code>}
                      <span className="quiet text-[13px]">
                        {[g.listed > 0 && `${number(g.listed)} listed`, g.nested > 0 && count(g.nested, 'member group')].filter(Boolean).join(', ') ||
                          (g.rule ? 'a rule' : 'nothing')}
                      </span>
                    </td>
                    <td className="text-right tabular-nums">{number(g.members)}</td>
                    <td>
                      {g.failures > 0 && <span className="text-warning">rule fails on {number(g.failures)}</span>}
                      {g.members === 0 && <span className="text-warning">nobody is in it</span>}
                      {g.detach.length > 0 && <div className="text-info">detached: {detachText(g.detach)}</div>}
                    </td>
                    <td>{g.source ?? <span className="quiet">edited here</span>}</td>
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
