// Grants: a role for somebody, somewhere, on some days. Shown as a table, given by a form.
import { useMutation } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, got, type Grant } from '../../api/client';
import { useUnits } from '../../api/queries';
import { Empty, Failed, Field, Heads, UnitOptions } from '../../ui/parts';
import { texts } from '../../ui/shape';
import { accessAltered, daysOf, rightWords, useRoles } from './words';

/** The title of a unit by its id. */
export function useUnitTitles() {
  const units = useUnits().data ?? [];
  return (id: string) => units.find((u) => u.id === id)?.title || id;
}

export function GrantTable({ grants, own }: { grants: Grant[]; own: boolean }) {
  const roles = useRoles().data ?? [];
  const title = useUnitTitles();
  const take = useMutation({
    mutationFn: (id: string) => got(api.DELETE('/api/v1/grants/{id}', { params: { path: { id } } })),
    onSettled: accessAltered,
  });
  if (grants.length === 0) return <Empty>No grants: the account may do nothing.</Empty>;
  return (
    <>
      <Failed error={take.error} />
      <div className="overflow-x-auto">
        <table className="table table-sm">
          <caption className="sr-only">Grants</caption>
          <Heads of={['Role', 'Where', 'When', 'Through']} actions />
          <tbody>
            {grants.map((g) => (
              <tr key={g.id} className={g.counts ? '' : 'quiet'}>
                <th scope="row">{roles.find((r) => r.id === g.role)?.title ?? g.role}</th>
                <td>
                  {g.unit ? (
                    <Link className="link-hover link" to={`/units/${encodeURIComponent(g.unit)}`}>
                      {title(g.unit)}
                    </Link>
                  ) : (
                    'Everywhere'
                  )}
                </td>
                <td>
                  {daysOf(g)}
                  {!g.counts && ' (not today)'}
                </td>
                <td>
                  {g.group ? (
                    <>
                      the group{' '}
                      <Link className="link-hover link" to={`/groups/${encodeURIComponent(g.group)}`}>
                        {g.group}
                      </Link>
                    </>
                  ) : (
                    <span className="id quiet">{g.id}</span>
                  )}
                </td>
                <td className="text-right">
                  {!own && !g.group && (
                    <button
                      type="button"
                      aria-label={`Take away ${g.role}${g.unit ? ` in ${g.unit}` : ''}`}
                      className="btn btn-ghost btn-xs"
                      disabled={take.isPending}
                      onClick={() => take.mutate(g.id)}
                    >
                      Take away
                    </button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </>
  );
}

/** Gives a role to an account. */
export function GiveRole({ account, onDone }: { account: string; onDone: () => void }) {
  const roles = useRoles().data ?? [];
  const units = useUnits().data ?? [];
  const give = useMutation({
    mutationFn: (body: { account: string; role: string; unit?: string; from?: string; until?: string }) => got(api.POST('/api/v1/grants', { body })),
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
        const optional = Object.fromEntries(['unit', 'from', 'until'].map((f) => [f, text(f)]).filter(([, v]) => v));
        give.mutate({ account, role: text('role'), ...optional });
      }}
    >
      <Field label="Role">
        <select name="role" className="select select-sm w-full" required>
          {roles.map((r) => (
            <option key={r.id} value={r.id} title={r.rights.map((right) => rightWords[right] ?? right).join('; ')}>
              {r.title}
            </option>
          ))}
        </select>
      </Field>
      <Field label="Where" hint="For a unit the grant counts for its laptops and people, and for those below. Policies written by it are bound to the unit.">
        <select name="unit" className="select select-sm w-full">
          <option value="">Everywhere</option>
          <UnitOptions of={units} />
        </select>
      </Field>
      <div className="grid grid-cols-2 gap-3">
        <Field label="From">
          <input name="from" type="date" className="input input-sm w-full" />
        </Field>
        <Field label="Until">
          <input name="until" type="date" className="input input-sm w-full" />
        </Field>
      </div>
      <p className="quiet text-[13px]">The account’s sessions end, so that it signs in with its new rights.</p>
      <Failed error={give.error} />
      <button type="submit" className="btn btn-primary btn-sm self-end" disabled={give.isPending}>
        Give the role
      </button>
    </form>
  );
}
