// Enrolment: invitations with which laptops come in, and laptops that wait for an approval.
import { useQuery } from '@tanstack/react-query';
import { useState, type FormEvent } from 'react';
import { Link } from 'react-router';
import { api, got } from '../api/client';
import { keys, useMay, useUnitTree } from '../api/queries';
import { useWrite } from '../api/writes';
import { Dialog, Empty, Failed, Field, Heads, Id, Loading, Page, Sheet, UnitOptions } from '../ui/parts';
import { count, Time } from '../ui/words';
import type { components } from '../api/schema';

type Invitation = components['schemas']['Invitation'];
type NewInvitation = components['schemas']['NewInvitation'];

const invitations = [...keys.devices, 'invitations'];
const waiting = [...keys.devices, 'waiting'];

export function EnrolmentScreen() {
  const may = useMay('devices');
  const authority = useQuery({ queryKey: [...keys.devices, 'authority'], queryFn: () => got(api.GET('/api/v1/authority')), retry: false });
  const [inviting, setInviting] = useState(false);
  const on = authority.data?.on;
  return (
    <Page
      title="Enrolment"
      lead="A laptop comes in with a code, makes a key of its own, and gets a certificate. From then on it proves itself by that."
      actions={
        on &&
        may && (
          <button type="button" className="btn btn-primary btn-sm" onClick={() => setInviting(true)}>
            Invite laptops …
          </button>
        )
      }
    >
      <Failed error={authority.error} />
      {authority.isPending && <Loading />}
      {authority.data && !on && (
        <div className="sheet">
          <Empty>
            The service answers without TLS, so laptops enrol with secrets. Start it with a certificate (zridge serve --tls-cert FILE --tls-key FILE): then they
            enrol by certificate.
          </Empty>
        </div>
      )}
      {on && authority.data && (
        <div className="flex flex-col gap-4">
          <WaitingLaptops />
          <Invitations />
          <Sheet title="The authority that issues the certificates" aside={authority.data.by_secret ? 'laptops may enrol with secrets, too' : undefined}>
            <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1 px-4 py-3 text-sm">
              <dt className="quiet">Name</dt>
              <dd>{authority.data.subject}</dd>
              <dt className="quiet">Until</dt>
              <dd>
                <Time at={authority.data.not_after} />
              </dd>
              <dt className="quiet">SHA-256</dt>
              <dd className="min-w-0 break-all">
                <Id copy>{authority.data.fingerprint ?? ''}</Id>
              </dd>
            </dl>
          </Sheet>
        </div>
      )}
      <Dialog open={inviting} onClose={() => setInviting(false)} title="Invite laptops">
        {inviting && <Invite onDone={() => setInviting(false)} />}
      </Dialog>
    </Page>
  );
}

function WaitingLaptops() {
  const list = useQuery({ queryKey: waiting, queryFn: () => got(api.GET('/api/v1/waiting-laptops')) });
  const decide = useWrite(
    ({ id, approve }: { id: string; approve: boolean }) =>
      got(api.POST('/api/v1/waiting-laptops/{id}/decision', { params: { path: { id } }, body: { approve } })),
    { alters: [waiting, invitations] },
  );
  if (!list.data?.length) return <Failed error={list.error} />;
  return (
    <Sheet title="Waiting for an approval" aside={count(list.data.length, 'laptop')}>
      <Failed error={decide.error} />
      <div className="overflow-x-auto">
        <table className="table table-sm">
          <caption className="sr-only">Laptops that wait for an approval</caption>
          <Heads of={['Laptop', 'Serial number', 'Model', 'Since']} actions />
          <tbody>
            {list.data.map((w) => (
              <tr key={w.id}>
                <th scope="row">
                  {w.new ? (
                    <Id>{w.device}</Id>
                  ) : (
                    <Link className="id link" to={`/devices/${encodeURIComponent(w.device)}`}>
                      {w.device}
                    </Link>
                  )}{' '}
                  {w.new && <span className="quiet font-normal">(new)</span>}
                </th>
                <td className="id">{w.serial || '–'}</td>
                <td>{w.model || '–'}</td>
                <td>
                  <Time at={w.at} />
                </td>
                <td className="text-right whitespace-nowrap">
                  <button
                    type="button"
                    className="btn btn-primary btn-xs"
                    aria-label={`Approve ${w.device}`}
                    disabled={decide.isPending}
                    onClick={() => decide.mutate({ id: w.id, approve: true })}
                  >
                    Approve
                  </button>{' '}
                  <button
                    type="button"
                    className="btn btn-ghost btn-xs"
                    aria-label={`Refuse ${w.device}`}
                    disabled={decide.isPending}
                    onClick={() => decide.mutate({ id: w.id, approve: false })}
                  >
                    Refuse
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </Sheet>
  );
}

/** For whom an invitation is. */
function Whom({ of }: { of: Invitation }) {
  const more = [of.makes && 'new ones too', of.approval && 'each approved by somebody'].filter(Boolean).join(', ');
  return (
    <>
      {of.device && (
        <Link className="id link-hover link" to={`/devices/${encodeURIComponent(of.device)}`}>
          {of.device}
        </Link>
      )}
      {of.person && (
        <>
          laptops of{' '}
          <Link className="id link-hover link" to={`/people/${encodeURIComponent(of.person)}`}>
            {of.person}
          </Link>
        </>
      )}
      {of.unit && (
        <>
          laptops of{' '}
          <Link className="id link-hover link" to={`/units/${encodeURIComponent(of.unit)}`}>
            {of.unit}
          </Link>
        </>
      )}
      {more && <span className="quiet block text-[13px]">{more}</span>}
    </>
  );
}

function Invitations() {
  const list = useQuery({ queryKey: invitations, queryFn: () => got(api.GET('/api/v1/invitations')) });
  const withdraw = useWrite((id: string) => got(api.DELETE('/api/v1/invitations/{id}', { params: { path: { id } } })), { alters: [invitations, waiting] });
  const open = list.data?.filter((i) => !i.ended) ?? [];
  const over = list.data?.filter((i) => i.ended) ?? [];
  return (
    <Sheet title="Invitations" aside={list.data && count(open.length, 'open invitation')}>
      <Failed error={list.error ?? withdraw.error} />
      {list.isPending && <Loading rows={3} />}
      {list.data?.length === 0 && <Empty>No invitations yet. An invitation has a code for each laptop that may come in.</Empty>}
      {open.length > 0 && <InvitationTable list={open} pending={withdraw.isPending} withdraw={(id) => withdraw.mutate(id)} />}
      {over.length > 0 && (
        <details className="border-t border-base-300/60">
          <summary className="quiet cursor-pointer px-4 py-2 text-sm">{count(over.length, 'invitation')} that are over</summary>
          <InvitationTable list={over.slice(0, 100)} />
        </details>
      )}
    </Sheet>
  );
}

/** Why an invitation is over. */
const overWord = (i: Invitation) => (i.withdrawn_at ? 'withdrawn' : i.unused === 0 ? 'used up' : 'expired');

function InvitationTable({ list, pending, withdraw }: { list: Invitation[]; pending?: boolean; withdraw?: (id: string) => void }) {
  return (
    <div className="overflow-x-auto">
      <table className="table table-sm">
        <caption className="sr-only">Invitations</caption>
        <Heads of={['For', 'Codes left', 'Waiting', 'Enrolled', 'By', 'Expires']} actions />
        <tbody>
          {list.map((i) => (
            <tr key={i.id}>
              <th scope="row" className="font-normal">
                <Whom of={i} />
              </th>
              <td className="tabular-nums">{i.unused}</td>
              <td className="tabular-nums">{i.waiting}</td>
              <td className="tabular-nums">{i.enrolled}</td>
              <td>{i.by}</td>
              <td>{i.ended ? overWord(i) : <Time at={i.expires_at} />}</td>
              <td className="text-right">
                {withdraw && (
                  <button type="button" className="btn btn-ghost btn-xs" aria-label={`Withdraw ${i.id}`} disabled={pending} onClick={() => withdraw(i.id)}>
                    Withdraw
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

type For = 'device' | 'person' | 'unit';

function Invite({ onDone }: { onDone: () => void }) {
  const units = useUnitTree().data ?? [];
  const [of, setOf] = useState<For>('unit');
  const [made, setMade] = useState<Invitation>();
  const invite = useWrite((body: NewInvitation) => got(api.POST('/api/v1/invitations', { body })), { alters: [invitations], done: setMade });
  if (made) return <Codes of={made} onDone={onDone} />;
  const send = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const form = new FormData(e.currentTarget);
    invite.mutate({
      [of]: String(form.get('whom')).trim(),
      laptops: of === 'device' ? 1 : Number(form.get('laptops')),
      days: Number(form.get('days')),
      makes: of !== 'device' && form.get('makes') === 'on',
      approval: form.get('approval') === 'on',
      mail: form.get('mail') === 'on',
    });
  };
  return (
    <form className="flex flex-col gap-3" onSubmit={send}>
      <Failed error={invite.error} />
      <Field label="For">
        <select className="select select-sm" value={of} onChange={(e) => setOf(e.target.value as For)}>
          <option value="unit">laptops of a unit</option>
          <option value="person">laptops of a person</option>
          <option value="device">one laptop</option>
        </select>
      </Field>
      {of === 'unit' ? (
        <Field label="Unit">
          <select name="whom" className="select select-sm" required>
            <UnitOptions of={units} />
          </select>
        </Field>
      ) : (
        <Field label={of === 'person' ? 'Person' : 'Laptop'} hint={of === 'person' ? 'Their id' : 'Its id'}>
          <input key={of} name="whom" className="input input-sm" required maxLength={128} autoComplete="off" />
        </Field>
      )}
      <div className="grid grid-cols-2 gap-3">
        {of !== 'device' && (
          <Field label="Laptops">
            <input name="laptops" type="number" className="input input-sm" min={1} max={1000} defaultValue={1} required />
          </Field>
        )}
        <Field label="Days until it expires">
          <input name="days" type="number" className="input input-sm" min={1} max={90} defaultValue={7} required />
        </Field>
      </div>
      {of !== 'device' && (
        <label className="flex items-center gap-2 text-sm">
          <input type="checkbox" name="makes" className="checkbox" />
          Add laptops that the estate does not have, from their serial number
        </label>
      )}
      <label className="flex items-center gap-2 text-sm">
        <input type="checkbox" name="approval" className="checkbox" />
        Somebody has to approve each laptop
      </label>
      {of !== 'unit' && (
        <label className="flex items-center gap-2 text-sm">
          <input type="checkbox" name="mail" className="checkbox" />
          Send what to do to {of === 'person' ? 'the person' : 'its owner'} by e-mail
        </label>
      )}
      <div className="flex justify-end gap-2">
        <button type="button" className="btn btn-sm" data-cancel onClick={onDone}>
          Cancel
        </button>
        <button type="submit" className="btn btn-primary btn-sm" disabled={invite.isPending}>
          Invite
        </button>
      </div>
    </form>
  );
}

/** The codes of a new invitation, which are shown this once, with what to do with them. */
function Codes({ of, onDone }: { of: Invitation; onDone: () => void }) {
  const codes = of.codes ?? [];
  return (
    <div className="flex flex-col gap-3 text-sm">
      <p>
        {of.mailed_to && `What to do was sent to ${of.mailed_to}. `}
        {of.not_mailed && `${of.not_mailed} `}
        {count(codes.length, 'code')}, each for one laptop, until <Time at={of.expires_at} />. They are shown this once.
      </p>
      <textarea
        className="textarea id"
        readOnly
        rows={Math.min(8, codes.length)}
        value={codes.join('\n')}
        aria-label="Codes"
        onFocus={(e) => e.target.select()}
      />
      <p className="quiet">
        The laptop sends a certificate request (PKCS #10) to {location.origin}/.well-known/est/simpleenroll over HTTPS (EST, RFC 7030), with its id as the user
        name, or none, and the code as the password.
      </p>
      <div className="flex justify-end">
        <button type="button" className="btn btn-primary btn-sm" onClick={onDone}>
          Done
        </button>
      </div>
    </div>
  );
}

/** The certificates of a laptop, and how to make them void. */
export function Certificates({ device }: { device: string }) {
  const may = useMay('devices');
  const key = [...keys.devices, 'certificates', device];
  const list = useQuery({
    queryKey: key,
    queryFn: () => got(api.GET('/api/v1/devices/{id}/certificates', { params: { path: { id: device } } })),
    enabled: may,
    retry: false,
  });
  const [asking, setAsking] = useState(false);
  const [reason, setReason] = useState('');
  const revoke = useWrite(() => got(api.POST('/api/v1/devices/{id}/revocation', { params: { path: { id: device } }, body: { reason } })), {
    alters: [key],
    done: () => setAsking(false),
  });
  if (!list.data?.length) return null;
  const counts = list.data.some((c) => c.state === 'counts' || c.state === 'replaced');
  return (
    <Sheet title="Certificates" aside={counts ? undefined : 'none counts'}>
      <ul className="py-1.5 text-sm">
        {list.data.slice(0, 6).map((c) => (
          <li key={c.serial} className="px-4 py-1">
            <span className="flex justify-between gap-3">
              <span>{c.state === 'counts' ? 'counts' : c.state}</span>
              <span className="quiet text-[13px]">
                {c.revoked_at ? (
                  <Time at={c.revoked_at} />
                ) : (
                  <>
                    until <Time at={c.ends_at ?? c.not_after} />
                  </>
                )}
              </span>
            </span>
            <span className="id quiet block truncate" title={c.serial}>
              {c.serial}
            </span>
            {c.reason && <span className="quiet block text-[13px]">{c.reason}</span>}
          </li>
        ))}
      </ul>
      {counts && (
        <div className="border-t border-base-300/60 px-4 py-2">
          <button type="button" className="btn btn-sm" onClick={() => setAsking(true)}>
            Revoke …
          </button>
        </div>
      )}
      <Dialog open={asking} onClose={() => setAsking(false)} title={`Revoke the certificates of ${device}`}>
        <form
          className="flex flex-col gap-3 text-sm"
          onSubmit={(e) => {
            e.preventDefault();
            revoke.mutate();
          }}
        >
          <p>The laptop is out at its next message, and gets no settings any more. It needs an invitation to come back.</p>
          <Failed error={revoke.error} />
          <Field label="Reason">
            <input
              className="input input-sm"
              value={reason}
              onChange={(e) => setReason(e.target.value)}
              required
              maxLength={500}
              placeholder="Left on the ferry"
            />
          </Field>
          <div className="flex justify-end gap-2">
            <button type="button" className="btn btn-sm" data-cancel onClick={() => setAsking(false)}>
              Cancel
            </button>
            <button type="submit" className="btn btn-error btn-sm" disabled={revoke.isPending}>
              Revoke
            </button>
          </div>
        </form>
      </Dialog>
    </Sheet>
  );
}
