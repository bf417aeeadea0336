// Audit log: who did what, when, through what.
import { useInfiniteQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, got } from '../api/client';
import { keys } from '../api/queries';
import { Empty, Failed, Loading, Page } from '../ui/parts';
import { Time } from '../ui/words';

const size = 100;

export function AuditScreen() {
  const list = useInfiniteQuery({
    queryKey: [...keys.changes, 'audit'],
    queryFn: ({ pageParam }) => got(api.GET('/api/v1/audit', { params: { query: { limit: size, below: pageParam } } })),
    initialPageParam: 0,
    getNextPageParam: (last) => (last.length === size ? last.at(-1)!.seq : undefined),
  });
  const rows = list.data?.pages.flat() ?? [];
  return (
    <Page title="Audit log" lead="Everything that was done, by whom, through what. Nothing here can be altered.">
      <Failed error={list.error} />
      {list.isPending && <Loading />}
      {list.data && (
        <div className="sheet overflow-x-auto">
          {rows.length === 0 ? (
            <Empty>Nothing was done yet.</Empty>
          ) : (
            <table className="table table-sm">
              <thead>
                <tr>
                  <th>When</th>
                  <th>Who</th>
                  <th>Via</th>
                  <th>What</th>
                  <th>Object</th>
                  <th>Change</th>
                </tr>
              </thead>
              <tbody>
                {rows.map((r) => (
                  <tr key={r.seq}>
                    <td>
                      <Time at={r.at} />
                    </td>
                    <td>{r.by}</td>
                    <td>{r.via}</td>
                    <td>{r.action}</td>
                    <td className="id">{r.id ? `${r.kind}/${r.id}` : r.after?.slice(0, 60)}</td>
                    <td>
                      {r.change && (
                        <Link className="id link" to={`/changes/${r.change}`}>
                          {r.change}
                        </Link>
                      )}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
          {list.hasNextPage && (
            <button type="button" className="btn btn-sm m-3" onClick={() => void list.fetchNextPage()}>
              Older entries
            </button>
          )}
        </div>
      )}
    </Page>
  );
}
