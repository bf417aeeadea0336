// People's access: who may sign in, as what; one's own sessions and password.
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState, type FormEvent } from 'react';
import { Link } from 'react-router';
import { api, got, type Role } from '../api/client';
import { keys, queries, useMay, useWho } from '../api/queries';
import { Dialog, Empty, Failed, Field, Loading, Page, Sheet } from '../ui/parts';
import { Status, Time } from '../ui/words';

const roles: Record<Role, string> = {
  reader: 'Look at everything but the audit log, and try what a change would do',
  author: 'Write changes',
  approver: 'Approve changes and exceptions of others',
  publisher: 'Write and publish changes',
  'service-desk': 'Work with laptops, and see recovery keys',
  auditor: 'Read the audit log',
  operator: 'Run the service: accounts and sources, no policies',
  administrator: 'Everything but recovery keys',
};

const names = Object.keys(roles) as Role[];

export function AccountsScreen() {
  const who = useWho().data;
  const list = useQuery({ queryKey: [...keys.who, 'accounts'], queryFn: () => got(api.GET('/api/v1/accounts')) });
  const [adding, setAdding] = useState(false);
  const alter = useMutation({
    mutationFn: ({ name, ...body }: { name: string; role?: Role; disabled?: boolean }) =>
      got(api.PUT('/api/v1/accounts/{name}', { params: { path: { name } }, body })),
    onSettled: () => queries.invalidateQueries({ queryKey: [...keys.who, 'accounts'] }),
  });
  return (
    <Page
      title="Accounts"
      lead="Who may sign in, and what each role may do. Another role, or disabling an account, ends its sessions and tokens."
      actions={
        <button type="button" className="btn btn-primary btn-sm" onClick={() => setAdding(true)}>
          Add an account …
        </button>
      }
    >
      <Failed error={list.error ?? alter.error} />
      {list.isPending && <Loading />}
      {list.data && (
        <div className="sheet overflow-x-auto">
          <table className="table table-sm">
            <thead>
              <tr>
                <th>Name</th>
                <th>Role</th>
                <th>What it may do</th>
                <th>State</th>
                <th>Since</th>
                <th>
                  <span className="sr-only">Actions</span>
                </th>
              </tr>
            </thead>
            <tbody>
              {list.data.map((a) => {
                const own = a.name === who?.name;
                return (
                  <tr key={a.name}>
                    <td className="id">
                      {a.name} {own && <span className="quiet">(you)</span>}
                    </td>
                    <td>
                      <select
                        aria-label={`Role of ${a.name}`}
                        className="select select-sm w-40"
                        value={a.role}
                        disabled={own || alter.isPending}
                        title={own ? 'Nobody alters their own rights' : undefined}
                        onChange={(e) => alter.mutate({ name: a.name, role: names.find((r) => r === e.target.value) })}
                      >
                        {names.map((r) => (
                          <option key={r}>{r}</option>
                        ))}
                      </select>
                    </td>
                    <td className="quiet">{names.filter((r) => r === a.role).map((r) => roles[r])}</td>
                    <td>
                      <Status of={a.disabled ? 'disabled' : 'active'} />
                    </td>
                    <td>
                      <Time at={a.created_at} />
                    </td>
                    <td className="text-right">
                      {!own && (
                        <button
                          type="button"
                          className="btn btn-ghost btn-xs"
                          disabled={alter.isPending}
                          onClick={() => alter.mutate({ name: a.name, disabled: !a.disabled })}
                        >
                          {a.disabled ? 'Enable' : 'Disable'}
                        </button>
                      )}
                    </td>
                  </tr>
                );
              })}
            </tbody>
          </table>
        </div>
      )}
      <Dialog open={adding} onClose={() => setAdding(false)} title="Add an account">
        {adding && <NewAccount onDone={() => setAdding(false)} />}
      </Dialog>
    </Page>
  );
}

/** The texts of a form by the names of its fields. */
const texts = (e: FormEvent<HTMLFormElement>) => {
  e.preventDefault();
  const form = new FormData(e.currentTarget);
  return (name: string) => String(form.get(name) ?? '');
};

function NewAccount({ onDone }: { onDone: () => void }) {
  const [role, setRole] = useState<Role>('reader');
  const add = useMutation({
    mutationFn: (body: { name: string; password: string; role: Role }) => got(api.POST('/api/v1/accounts', { body })),
    onSuccess: async () => {
      await queries.invalidateQueries({ queryKey: [...keys.who, 'accounts'] });
      onDone();
    },
  });
  return (
    <form
      className="flex flex-col gap-3 text-sm"
      onSubmit={(e) => {
        const text = texts(e);
        add.mutate({ name: text('name'), password: text('password'), role });
      }}
    >
      <Field label="Name" hint="Lower-case letters, digits, dots and dashes, such as lena.brandt">
        <input name="name" required maxLength={64} autoComplete="off" className="input input-sm w-full" />
      </Field>
      <Field label="First password" hint="At least 12 characters; hand it over in person">
        <input name="password" type="password" required minLength={12} autoComplete="new-password" className="input input-sm w-full" />
      </Field>
      <Field label="Role" hint={roles[role]}>
        <select className="select select-sm w-full" value={role} onChange={(e) => setRole(names.find((r) => r === e.target.value) ?? 'reader')}>
          {names.map((r) => (
            <option key={r}>{r}</option>
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

/** One's own access: sessions, password. */
export function AccessScreen() {
  const who = useWho().data;
  const mayManage = useMay('accounts');
  return (
    <Page
      title="Your access"
      lead={who && `${who.name}, ${who.role}`}
      actions={
        mayManage && (
          <Link className="btn btn-sm" to="/accounts">
            All accounts
          </Link>
        )
      }
    >
      <div className="grid items-start gap-4 lg:grid-cols-[minmax(0,1fr)_24rem]">
        <div className="flex min-w-0 flex-col gap-4">
          <Sessions />
          <Sheet title="What you may do">
            <p className="px-4 py-3 text-sm">{who?.rights.join(', ')}</p>
          </Sheet>
        </div>
        <Password />
      </div>
    </Page>
  );
}

function Sessions() {
  const list = useQuery({ queryKey: [...keys.who, 'sessions'], queryFn: () => got(api.GET('/api/v1/sessions')) });
  const end = useMutation({
    mutationFn: (id: string) => got(api.DELETE('/api/v1/sessions/{id}', { params: { path: { id } } })),
    onSettled: () => queries.invalidateQueries({ queryKey: [...keys.who, 'sessions'] }),
  });
  return (
    <Sheet title="Your open sessions" aside="A session ends after 12 hours">
      <Failed error={list.error ?? end.error} />
      {list.isPending && <Loading rows={2} />}
      {list.data?.length === 0 && <Empty>No open sessions.</Empty>}
      {!!list.data?.length && (
        <table className="table table-sm">
          <thead>
            <tr>
              <th>From</th>
              <th>Opened</th>
              <th>Ends</th>
              <th>
                <span className="sr-only">Actions</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {list.data.map((s) => (
              <tr key={s.id}>
                <td>
                  <span className="id">{s.address || 'unknown'}</span> {s.own && <span className="quiet">(this browser)</span>}
                </td>
                <td>
                  <Time at={s.created_at} />
                </td>
                <td>
                  <Time at={s.expires_at} />
                </td>
                <td className="text-right">
                  {!s.own && (
                    <button type="button" className="btn btn-ghost btn-xs" disabled={end.isPending} onClick={() => end.mutate(s.id)}>
                      End
                    </button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </Sheet>
  );
}

function Password() {
  const change = useMutation({
    mutationFn: (body: { old: string; new: string }) => got(api.PUT('/api/v1/password', { body })),
    onSuccess: () => queries.invalidateQueries({ queryKey: [...keys.who, 'sessions'] }),
  });
  return (
    <Sheet title="Change your password">
      <form
        className="flex flex-col gap-3 px-4 py-3 text-sm"
        onSubmit={(e) => {
          const form = e.currentTarget;
          const text = texts(e);
          change.mutate({ old: text('old'), new: text('new') }, { onSuccess: () => form.reset() });
        }}
      >
        <Field label="Present password">
          <input name="old" type="password" required autoComplete="current-password" className="input input-sm w-full" />
        </Field>
        <Field label="New password" hint="At least 12 characters. Your other sessions end.">
          <input name="new" type="password" required minLength={12} autoComplete="new-password" className="input input-sm w-full" />
        </Field>
        <Failed error={change.error} />
        {change.isSuccess && (
          <p role="status" className="text-success">
            Your password is changed.
          </p>
        )}
        <button type="submit" className="btn btn-primary btn-sm self-end" disabled={change.isPending}>
          Change the password
        </button>
      </form>
    </Sheet>
  );
}
