// Accounts: who may sign in, as what.
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, got } from '../../api/client';
import { useMoment } from '../../api/moment';
import { useWho } from '../../api/queries';
import { Dialog, Failed, Field, Heads, Loading, Page, Sheet } from '../../ui/parts';
import { texts } from '../../ui/shape';
import { count, Status, Time } from '../../ui/words';
import { useUnitTitles } from './grants';
import { accessAltered, daysOf, useAccounts, useRoles } from './words';

export function AccountsScreen() {
  const who = useWho().data;
  const list = useAccounts();
  const moment = useMoment();
  const [adding, setAdding] = useState(false);
  return (
    <Page
      title="Accounts"
      lead="Who may sign in. What an account may do comes from its grants: roles, for the whole company or for a unit."
      actions={
        <>
          <Link className="btn btn-sm" to="/roles">
            Roles
          </Link>
          {!moment && (
            <button type="button" className="btn btn-primary btn-sm" onClick={() => setAdding(true)}>
              Add an account …
            </button>
          )}
        </>
      }
    >
      <Failed error={list.error} />
      {list.isPending && <Loading />}
      {list.data && (
        <div className="sheet overflow-x-auto">
          <table className="table table-sm">
            <caption className="sr-only">Accounts</caption>
            <Heads of={['Name', 'Roles today', 'State', 'Since']} />
            <tbody>
              {list.data.map((a) => (
                <tr key={a.name}>
                  <th scope="row">
                    <Link className="id link-hover link" to={`/accounts/${encodeURIComponent(a.name)}`}>
                      {a.name}
                    </Link>{' '}
                    {a.name === who?.name && <span className="quiet">(you)</span>}
                  </th>
                  <td>{a.role}</td>
                  <td>
                    <Status of={a.disabled ? 'disabled' : 'active'} />
                  </td>
                  <td>
                    <Time at={a.created_at} />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {moment && <GrantsThen />}
      <Dialog open={adding} onClose={() => setAdding(false)} title="Add an account">
        {adding && <NewAccount onDone={() => setAdding(false)} />}
      </Dialog>
    </Page>
  );
}

/** Who had which role at the moment that is shown. */
function GrantsThen() {
  const grants = useQuery({ queryKey: ['access', 'grants'], queryFn: () => got(api.GET('/api/v1/grants')) });
  const title = useUnitTitles();
  return (
    <div className="mt-4">
      <Sheet title="Grants at that moment" aside={grants.data && count(grants.data.length, 'grant')}>
        <Failed error={grants.error} />
        {grants.isPending && <Loading />}
        {grants.data && (
          <div className="overflow-x-auto">
            <table className="table table-sm">
              <caption className="sr-only">Grants at that moment</caption>
              <Heads of={['Who', 'Role', 'Where', 'When', 'Given by']} />
              <tbody>
                {grants.data.map((g) => (
                  <tr key={g.id} className={g.counts ? '' : 'quiet'}>
                    <th scope="row">{g.account ? <span className="id">{g.account}</span> : <>the group {g.group}</>}</th>
                    <td>{g.role}</td>
                    <td>{g.unit ? title(g.unit) : 'Everywhere'}</td>
                    <td>
                      {daysOf(g)}
                      {!g.counts && ' (not on that day)'}
                    </td>
                    <td className="quiet">{g.by}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        )}
      </Sheet>
    </div>
  );
}

function NewAccount({ onDone }: { onDone: () => void }) {
  const roles = useRoles().data ?? [];
  const add = useMutation({
    mutationFn: (body: { name: string; password: string; chosen?: boolean; role?: string }) => got(api.POST('/api/v1/accounts', { body })),
    onSuccess: async () => {
      await accessAltered();
      onDone();
    },
  });
  return (
    <form
      className="flex flex-col gap-3 text-sm"
      onSubmit={(e) => {
        const text = texts(e);
        add.mutate({
          name: text('name'),
          password: text('password'),
          ...(text('chosen') ? { chosen: true } : {}),
          ...(text('role') ? { role: text('role') } : {}),
        });
      }}
    >
      <Field label="Name" hint="Of the person, as in the directory: lower-case letters, digits, dots and dashes, such as lena.brandt">
        <input name="name" required maxLength={64} autoComplete="off" className="input input-sm w-full" />
      </Field>
      <Field
        label="First password"
        hint="At least 12 characters. Hand it over in person: unless the person typed it in, they choose another one at the first sign-in."
      >
        <input name="password" type="password" required minLength={12} autoComplete="new-password" className="input input-sm w-full" />
      </Field>
      <label className="flex items-center gap-2">
        <input type="checkbox" name="chosen" className="checkbox checkbox-sm" />
        The person typed it in, and keeps it
      </label>
      <Field label="Role" hint="Everywhere and for good. For a unit, or for some days, choose none and give the role on the account's page.">
        <select name="role" className="select select-sm w-full" defaultValue="reader">
          <option value="">None</option>
          {roles.map((r) => (
            <option key={r.id} value={r.id}>
              {r.title}
            </option>
          ))}
        </select>
      </Field>
      <Failed error={add.error} />
      <button type="submit" className="btn btn-primary btn-sm self-end" disabled={add.isPending}>
        Add the account
      </button>
    </form>
  );
}
