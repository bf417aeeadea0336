// Roles: named sets of rights, shipped or defined here.
import { useMutation } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, got, type Role } from '../../api/client';
import { useWho } from '../../api/queries';
import { Dialog, Failed, Field, Heads, Loading, Page } from '../../ui/parts';
import { slug } from '../../ui/words';
import { accessAltered, rightWords, useRoles } from './words';

export function RolesScreen() {
  const list = useRoles();
  const [open, setOpen] = useState<Role | 'new' | null>(null);
  const remove = useMutation({
    mutationFn: (id: string) => got(api.DELETE('/api/v1/roles/{id}', { params: { path: { id } } })),
    onSettled: accessAltered,
  });
  return (
    <Page
      title="Roles"
      lead={
        <>
          Named sets of rights. A grant gives a role to an account, everywhere or for a unit.{' '}
          <Link className="link" to="/accounts">
            Accounts
          </Link>
        </>
      }
      actions={
        <button type="button" className="btn btn-primary btn-sm" onClick={() => setOpen('new')}>
          Define a role …
        </button>
      }
    >
      <Failed error={list.error ?? remove.error} />
      {list.isPending && <Loading />}
      {list.data && (
        <div className="sheet overflow-x-auto">
          <table className="table table-sm">
            <caption className="sr-only">Roles</caption>
            <Heads of={['Role', 'Rights']} actions />
            <tbody>
              {list.data.map((r) => (
                <tr key={r.id}>
                  <th scope="row" className="align-top whitespace-nowrap">
                    {r.title}
                    <div className="id quiet text-[12px]">{r.id}</div>
                  </th>
                  <td>
                    {r.rights.map((right) => (
                      <span key={right} className="badge badge-ghost badge-sm mr-1 mb-1" title={rightWords[right]}>
                        {right}
                      </span>
                    ))}
                  </td>
                  <td className="text-right whitespace-nowrap">
                    {r.shipped ? (
                      <span className="quiet text-[13px]">shipped</span>
                    ) : (
                      <>
                        <button type="button" aria-label={`Edit ${r.title || r.id} …`} className="btn btn-ghost btn-xs" onClick={() => setOpen(r)}>
                          Edit …
                        </button>
                        <button
                          type="button"
                          aria-label={`Remove ${r.title || r.id}`}
                          className="btn btn-ghost btn-xs"
                          disabled={remove.isPending}
                          onClick={() => remove.mutate(r.id)}
                        >
                          Remove
                        </button>
                      </>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      <Dialog open={!!open} onClose={() => setOpen(null)} title={open === 'new' || !open ? 'Define a role' : `The role ${open.title}`}>
        {open && <RoleForm of={open === 'new' ? null : open} onDone={() => setOpen(null)} />}
      </Dialog>
    </Page>
  );
}

function RoleForm({ of, onDone }: { of: Role | null; onDone: () => void }) {
  const mine = useWho().data?.rights ?? [];
  const save = useMutation({
    mutationFn: ({ id, ...body }: { id: string; title: string; rights: Role['rights'] }) =>
      got(api.PUT('/api/v1/roles/{id}', { params: { path: { id } }, body })),
    onSuccess: async () => {
      await accessAltered();
      onDone();
    },
  });
  return (
    <form
      className="flex flex-col gap-3 text-sm"
      onSubmit={(e) => {
        e.preventDefault();
        const form = new FormData(e.currentTarget);
        const title = String(form.get('title') ?? '').trim();
        save.mutate({ id: of?.id ?? slug(title), title, rights: form.getAll('right').map(String) });
      }}
    >
      <Field label="Title">
        <input name="title" required maxLength={80} defaultValue={of?.title} className="input input-sm w-full" />
      </Field>
      <fieldset className="flex flex-col gap-1.5">
        <legend className="mb-1 font-medium">Rights</legend>
        {Object.entries(rightWords).map(([right, words]) => {
          const may = mine.includes(right);
          return (
            <label key={right} className={`flex items-start gap-2 ${may ? '' : 'quiet'}`}>
              <input
                type="checkbox"
                name="right"
                value={right}
                className="checkbox checkbox-sm mt-0.5"
                disabled={!may}
                defaultChecked={of ? of.rights.includes(right) : right === 'read'}
              />
              <span>
                {words} <span className="id quiet text-[12px]">{right}</span>
                {!may && <span className="block text-[13px]">You do not have this right yourself.</span>}
              </span>
            </label>
          );
        })}
      </fieldset>
      <Failed error={save.error} />
      <button type="submit" className="btn btn-primary btn-sm self-end" disabled={save.isPending}>
        Save the role
      </button>
    </form>
  );
}
