// One account: its grants, what it may do today and why, its sessions.
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link, useParams } from 'react-router';
import { api, got } from '../../api/client';
import { queries, useWho } from '../../api/queries';
import { Dialog, Empty, Failed, Heads, Loading, Page, Sheet } from '../../ui/parts';
import { Status } from '../../ui/words';
import { GiveRole, GrantTable, useUnitTitles } from './grants';
import { SessionTable } from './own';
import { accessAltered, accountsKey, rightWords, useAccountRights, useAccounts } from './words';

export function AccountScreen() {
  const { id: name = '' } = useParams();
  const own = useWho().data?.name === name;
  const rights = useAccountRights(name);
  const account = useAccounts().data?.find((a) => a.name === name);
  const [giving, setGiving] = useState(false);
  const disable = useMutation({
    mutationFn: (disabled: boolean) => got(api.PUT('/api/v1/accounts/{name}', { params: { path: { name } }, body: { disabled } })),
    onSettled: accessAltered,
  });
  return (
    <Page
      title={name}
      lead={
        <>
          <Link className="link" to="/accounts">
            Accounts
          </Link>{' '}
          {account && <Status of={account.disabled ? 'disabled' : 'active'} />}
        </>
      }
      actions={
        !own &&
        account && (
          <>
            <button type="button" className="btn btn-sm" disabled={disable.isPending} onClick={() => disable.mutate(!account.disabled)}>
              {account.disabled ? 'Enable the account' : 'Disable the account'}
            </button>
            <button type="button" className="btn btn-primary btn-sm" onClick={() => setGiving(true)}>
              Give a role …
            </button>
          </>
        )
      }
    >
      <Failed error={rights.error ?? disable.error} />
      {rights.isPending && <Loading />}
      {own && <p className="quiet text-sm">Nobody alters their own rights: another administrator does.</p>}
      {rights.data && (
        <div className="grid items-start gap-4 xl:grid-cols-2">
          <div className="flex min-w-0 flex-col gap-4">
            <Sheet title="Grants" aside="By which the account may do something">
              <GrantTable grants={rights.data.grants} own={own} />
            </Sheet>
            <Sheet title="Open sessions" aside="A session ends after 12 hours, or half an hour without use">
              <AccountSessions name={name} />
            </Sheet>
          </div>
          <Sheet title="What it may do today" aside={`${rights.data.rights.length} rights`}>
            <Rights of={rights.data} />
          </Sheet>
        </div>
      )}
      <Dialog open={giving} onClose={() => setGiving(false)} title={`Give a role to ${name}`}>
        {giving && <GiveRole account={name} onDone={() => setGiving(false)} />}
      </Dialog>
    </Page>
  );
}

function Rights({ of }: { of: NonNullable<ReturnType<typeof useAccountRights>['data']> }) {
  const title = useUnitTitles();
  if (of.rights.length === 0) return <Empty>Nothing.</Empty>;
  return (
    <div className="overflow-x-auto">
      <table className="table table-sm">
        <caption className="sr-only">Rights of this account</caption>
        <Heads of={['Right', 'Where', 'Why']} />
        <tbody>
          {of.rights.map((r) => (
            <tr key={r.right}>
              <th scope="row">
                {rightWords[r.right] ?? r.right}
                <div className="id quiet text-[12px]">{r.right}</div>
              </th>
              <td>{r.everywhere ? 'Everywhere' : r.units?.map(title).join(', ')}</td>
              <td>
                {of.grants
                  .filter((g) => r.through.includes(g.id))
                  .map((g) => `${g.role}${g.group ? ` through ${g.group}` : ''}`)
                  .join(', ')}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function AccountSessions({ name }: { name: string }) {
  const key = [...accountsKey, 'sessions', name];
  const list = useQuery({ queryKey: key, queryFn: () => got(api.GET('/api/v1/accounts/{name}/sessions', { params: { path: { name } } })) });
  const end = useMutation({
    mutationFn: (id: string) => got(api.DELETE('/api/v1/accounts/{name}/sessions/{id}', { params: { path: { name, id } } })),
    onSettled: () => queries.invalidateQueries({ queryKey: key }),
  });
  return (
    <>
      <Failed error={list.error ?? end.error} />
      {list.isPending ? <Loading rows={2} /> : <SessionTable list={list.data ?? []} pending={end.isPending} end={(id) => end.mutate(id)} />}
    </>
  );
}
