// One's own access: sessions, password, what one may do.
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, got, type Session } from '../../api/client';
import { keys, queries, useMay, useWho } from '../../api/queries';
import { Empty, Failed, Field, Heads, Loading, Page, Sheet } from '../../ui/parts';
import { Time } from '../../ui/words';
import { texts } from '../../ui/shape';
import { signOut } from '../../ui/session';
import { setSingleKeys, singleKeys } from '../../ui/shortcuts';
import { Announcements, useAnnouncements } from './announcements';
import { SecondFactor, useSecondFactor } from './factor';
import { Passkeys, usePasskeys } from './passkeys';
import { daysOf, rightWords } from './words';

export function AccessScreen() {
  const who = useWho().data;
  if (who?.password_due)
    return (
      <Page
        title="Choose a password"
        lead={`${who.name}, somebody else chose your password. Choose one that only you know; then you can go on.`}
        actions={
          <button type="button" className="btn btn-sm" onClick={signOut}>
            Sign out
          </button>
        }
      >
        <div className="max-w-sm">
          <Password />
        </div>
      </Page>
    );
  return <Access />;
}

function Access() {
  const who = useWho().data;
  const mayManage = useMay('accounts');
  const loading = [useSessions(), useSecondFactor(), usePasskeys(), useAnnouncements()].some((q) => q.isPending && !q.isError); // the page is shown as a whole
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
      {loading && <Loading />}
      <div className={`grid items-start gap-4 lg:grid-cols-[minmax(0,1fr)_24rem] ${loading ? 'hidden' : ''}`}>
        <div className="flex min-w-0 flex-col gap-4">
          <Sessions />
          <Announcements />
          <Sheet title="What you may do" aside={who?.grants.map((g) => `${g.role}${g.unit ? ` in ${g.unit}` : ''}, ${daysOf(g)}`).join(' · ')}>
            {who?.rights.length === 0 && <Empty>Nothing yet. Ask whoever manages accounts for a role.</Empty>}
            <ul className="grid gap-x-6 gap-y-1 px-4 py-3 text-sm md:grid-cols-2">
              {who?.rights.map((r) => (
                <li key={r}>{rightWords[r] ?? r}</li>
              ))}
            </ul>
          </Sheet>
        </div>
        <div className="flex min-w-0 flex-col gap-4">
          <Passkeys />
          <SecondFactor />
          <Password />
          <Keys />
        </div>
      </div>
    </Page>
  );
}

/** Single keys can be turned off: they get in the way of speech input. */
function Keys() {
  const [on, setOn] = useState(singleKeys());
  return (
    <Sheet title="Keyboard">
      <label className="flex items-center gap-2 px-4 py-3 text-sm">
        <input
          type="checkbox"
          className="checkbox checkbox-sm"
          checked={on}
          onChange={(e) => {
            setSingleKeys(e.target.checked);
            setOn(e.target.checked);
          }}
        />
        <span>
          The key <kbd className="kbd kbd-sm">/</kbd> opens Find. <kbd className="kbd kbd-sm">Ctrl</kbd> <kbd className="kbd kbd-sm">K</kbd> does so in any
          case.
        </span>
      </label>
    </Sheet>
  );
}

const useSessions = () => useQuery({ queryKey: [...keys.who, 'sessions'], queryFn: () => got(api.GET('/api/v1/sessions')) });

function Sessions() {
  const list = useSessions();
  const end = useMutation({
    mutationFn: (id: string) => got(api.DELETE('/api/v1/sessions/{id}', { params: { path: { id } } })),
    onSettled: () => queries.invalidateQueries({ queryKey: [...keys.who, 'sessions'] }),
  });
  return (
    <Sheet title="Your open sessions" aside="A session ends after 12 hours, or half an hour without use">
      <Failed error={list.error ?? end.error} />
      {list.isPending ? <Loading rows={2} /> : <SessionTable list={list.data ?? []} pending={end.isPending} end={(id) => end.mutate(id)} />}
    </Sheet>
  );
}

/** Open sessions, each with a button that ends it. */
export function SessionTable({ list, pending, end }: { list: Session[]; pending: boolean; end: (id: string) => void }) {
  if (list.length === 0) return <Empty>No open sessions.</Empty>;
  return (
    <div className="overflow-x-auto">
      <table className="table table-sm">
        <caption className="sr-only">Open sessions</caption>
        <Heads of={['From', 'Opened', 'Ends']} actions />
        <tbody>
          {list.map((s) => (
            <tr key={s.id}>
              <th scope="row">
                <span className="id">{s.address || 'unknown'}</span> {s.own && <span className="quiet">(this browser)</span>}
              </th>
              <td>
                <Time at={s.created_at} />
              </td>
              <td>
                <Time at={s.expires_at} />
              </td>
              <td className="text-right">
                {!s.own && (
                  <button
                    type="button"
                    aria-label={`End the session from ${s.address || 'an unknown address'}`}
                    className="btn btn-ghost btn-xs"
                    disabled={pending}
                    onClick={() => end(s.id)}
                  >
                    End
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Password() {
  const change = useMutation({
    mutationFn: (body: { old: string; new: string }) => got(api.PUT('/api/v1/password', { body })),
    onSuccess: () => queries.invalidateQueries({ queryKey: keys.who }),
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
