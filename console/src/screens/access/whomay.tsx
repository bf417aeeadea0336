// Who may do something to an object, and by which grants.
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, got } from '../../api/client';
import { useMay } from '../../api/queries';
import { Dialog, Empty, Failed, Field, Heads, Loading } from '../../ui/parts';
import { count } from '../../ui/words';
import { accountsKey, rightWords } from './words';

const rightsOf = {
  policies: ['write', 'approve', 'publish', 'read'],
  groups: ['write', 'approve', 'publish', 'read'],
  units: ['write', 'approve', 'publish', 'devices', 'read'],
  devices: ['devices', 'write', 'publish', 'exceptions-approve', 'read'],
} as const;

type Kind = keyof typeof rightsOf;
type ObjectRight = (typeof rightsOf)[Kind][number];

/** A button for those who manage accounts. It opens the list of accounts that have a right to an object. */
export function WhoMay({ kind, id }: { kind: Kind; id: string }) {
  const [open, setOpen] = useState(false);
  if (!useMay('accounts')) return null;
  return (
    <>
      <button type="button" className="btn btn-ghost btn-sm" onClick={() => setOpen(true)}>
        Access
      </button>
      <Dialog open={open} onClose={() => setOpen(false)} title={`Access to ${id}`} wide>
        <Permitted kind={kind} id={id} />
        <div className="mt-4 flex justify-end">
          <button type="button" className="btn btn-sm" onClick={() => setOpen(false)}>
            Close
          </button>
        </div>
      </Dialog>
    </>
  );
}

function Permitted({ kind, id }: { kind: Kind; id: string }) {
  const [right, setRight] = useState<ObjectRight>(rightsOf[kind][0]);
  const list = useQuery({
    queryKey: [...accountsKey, 'permitted', right, kind, id],
    queryFn: () => got(api.GET('/api/v1/access', { params: { query: { right, kind, id } } })),
  });
  return (
    <div className="flex flex-col gap-3">
      <Field label="Right">
        <select className="select select-sm w-full" value={right} onChange={(e) => setRight(e.target.value as ObjectRight)}>
          {rightsOf[kind].map((r) => (
            <option key={r} value={r}>
              {rightWords[r]}
            </option>
          ))}
        </select>
      </Field>
      <Failed error={list.error} />
      {list.isPending && <Loading rows={3} />}
      {list.data?.length === 0 && (
        <Empty
          action={
            <Link className="btn btn-sm" to="/accounts">
              To the accounts
            </Link>
          }
        >
          No account has this right here. Give a role that has it, everywhere or for the unit.
        </Empty>
      )}
      {!!list.data?.length && (
        <table className="table table-sm">
          <caption className="quiet pb-1 text-left text-[13px]">{count(list.data.length, 'account')} today</caption>
          <Heads of={['Account', 'By the role']} />
          <tbody>
            {list.data.map((p) => (
              <tr key={p.account}>
                <th scope="row" className="font-normal">
                  <Link className="link" to={`/accounts/${encodeURIComponent(p.account)}`}>
                    {p.account}
                  </Link>
                </th>
                <td>{p.roles.map((role) => role.replace(' ', ' for ')).join(', ')}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </div>
  );
}
