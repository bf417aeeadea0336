// Escrow recipients: who can open the keys, how far keys are sealed to each, and what can be destroyed.
import { useQuery } from '@tanstack/react-query';
import { useState, type FormEvent } from 'react';
import { api, got } from '../../api/client';
import { useMay } from '../../api/queries';
import { useWrite } from '../../api/writes';
import { Dialog, Empty, Failed, Field, Heads, Id, Sheet } from '../../ui/parts';
import { count, number, Time } from '../../ui/words';
import { recipientsKey, type EscrowRecipient } from './words';

export function Recipients() {
  const may = useMay('service');
  const list = useQuery({ queryKey: recipientsKey, queryFn: () => got(api.GET('/api/v1/escrow-recipients')) });
  const [adding, setAdding] = useState(false);
  const [doomed, setDoomed] = useState<EscrowRecipient>();
  const add = may && (
    <button type="button" className="btn btn-xs" onClick={() => setAdding(true)}>
      Add a recipient …
    </button>
  );
  return (
    <Sheet title="Who can open the keys" aside={add}>
      <Failed error={list.error} />
      {list.data?.length === 0 && (
        <Empty>
          Nobody yet, so no laptop is encrypted with a key that is stored. Add an identity of the service, then name it in a policy: “Who can open the recovery
          keys”.
        </Empty>
      )}
      {!!list.data?.length && (
        <div className="overflow-x-auto">
          <table className="table table-sm">
            <caption className="sr-only">Escrow recipients</caption>
            <Heads of={['Recipient', 'Private half', 'Named by policies of', 'Keys in force', 'to it alone', 'Earlier keys', 'Replace by']} actions />
            <tbody>
              {list.data.map((r) => (
                <tr key={r.recipient} className={r.destroyed_at ? 'quiet' : ''}>
                  <th scope="row" className="font-normal">
                    {r.title || <em>not registered</em>}
                    <div className="w-72 text-[12px] break-all whitespace-normal">
                      <Id copy>{r.recipient}</Id>
                    </div>
                    {r.blocks && !r.destroyed_at && <div className="quiet text-[13px] whitespace-normal">{r.blocks}</div>}
                  </th>
                  <td>
                    <Holder of={r} />
                  </td>
                  <td className="tabular-nums">{count(r.named, 'laptop')}</td>
                  <td className="tabular-nums">{number(r.keys)}</td>
                  <td className="tabular-nums">{number(r.alone)}</td>
                  <td className="tabular-nums">{number(r.earlier)}</td>
                  <td>{may && r.title && !r.destroyed_at ? <ReplaceBy of={r} /> : r.replace_on || '–'}</td>
                  <td className="text-right">
                    {may && r.title && !r.destroyed_at && (
                      <button
                        type="button"
                        className="btn btn-ghost btn-xs"
                        aria-label={`Destroy ${r.title}`}
                        title={r.blocks}
                        disabled={!!r.blocks}
                        onClick={() => setDoomed(r)}
                      >
                        Destroy …
                      </button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      <Dialog open={adding} onClose={() => setAdding(false)} title="Add an escrow recipient">
        {adding && <Add onDone={() => setAdding(false)} />}
      </Dialog>
      <Dialog open={!!doomed} onClose={() => setDoomed(undefined)} title={`Destroy ${doomed?.title ?? ''}`}>
        {doomed && <Destroy of={doomed} onDone={() => setDoomed(undefined)} />}
      </Dialog>
    </Sheet>
  );
}

function Holder({ of: r }: { of: EscrowRecipient }) {
  if (r.destroyed_at)
    return (
      <>
        destroyed <Time at={r.destroyed_at} /> by {r.destroyed_by}
      </>
    );
  if (r.holder === 'company') return <>kept by the company, offline</>;
  if (!r.holder) return <span className="text-warning">nobody knows</span>;
  return r.usable ? <>kept by the service</> : <span className="text-error">should be in the service, and is not</span>;
}

function ReplaceBy({ of: r }: { of: EscrowRecipient }) {
  const write = useWrite(
    (day: string) => got(api.PUT('/api/v1/escrow-recipients/{recipient}', { params: { path: { recipient: r.recipient } }, body: { replace_on: day } })),
    { alters: [recipientsKey] },
  );
  return (
    <>
      <input
        type="date"
        className="input input-xs w-36"
        aria-label={`Day by which another takes the place of ${r.title}`}
        defaultValue={r.replace_on ?? ''}
        onBlur={(e) => e.target.value !== (r.replace_on ?? '') && write.mutate(e.target.value)}
      />
      <Failed error={write.error} />
    </>
  );
}

function Add({ onDone }: { onDone: () => void }) {
  const [company, setCompany] = useState(false);
  const add = useWrite((body: { title: string; recipient?: string; replace_on?: string }) => got(api.POST('/api/v1/escrow-recipients', { body })), {
    alters: [recipientsKey],
    done: onDone,
  });
  const send = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const form = new FormData(e.currentTarget);
    const text = (name: string) => String(form.get(name) ?? '').trim();
    add.mutate({
      title: text('title'),
      ...(text('recipient') ? { recipient: text('recipient') } : {}),
      ...(text('replace_on') ? { replace_on: text('replace_on') } : {}),
    });
  };
  return (
    <form className="flex flex-col gap-3 text-sm" onSubmit={send}>
      <fieldset className="flex flex-col gap-1">
        <legend className="mb-1 font-medium">Who keeps the private half?</legend>
        <label className="flex items-baseline gap-2">
          <input type="radio" name="who" checked={!company} onChange={() => setCompany(false)} className="radio radio-xs" /> The service makes an identity, so
          that the service desk can show keys
        </label>
        <label className="flex items-baseline gap-2">
          <input type="radio" name="who" checked={company} onChange={() => setCompany(true)} className="radio radio-xs" /> The company keeps it offline: for the
          day when the service is lost
        </label>
      </fieldset>
      <Field label="Name">
        <input name="title" required maxLength={100} className="input input-sm w-full" />
      </Field>
      {company && (
        <Field label="Public half" hint="The text that begins with age1. Make the identity where it will be kept: age-keygen">
          <input name="recipient" required pattern="age1[a-z0-9]{58}" className="input input-sm w-full font-mono" spellCheck={false} />
        </Field>
      )}
      <Field label="Replace by" hint="A day; you are reminded two months before">
        <input name="replace_on" type="date" className="input input-sm" />
      </Field>
      <p className="quiet">
        Keys are sealed to it once a policy names it. Laptops make a new key for it at their next check-in, wave by wave as the change rolls out.
      </p>
      <Failed error={add.error} />
      <button type="submit" className="btn btn-primary btn-sm self-end" disabled={add.isPending}>
        Add
      </button>
    </form>
  );
}

function Destroy({ of: r, onDone }: { of: EscrowRecipient; onDone: () => void }) {
  const destroy = useWrite(() => got(api.DELETE('/api/v1/escrow-recipients/{recipient}', { params: { path: { recipient: r.recipient } } })), {
    alters: [recipientsKey],
    done: onDone,
  });
  return (
    <div className="flex flex-col gap-3 text-sm">
      <p>
        No policy names it, and no key in force is sealed to it. {count(r.earlier, 'earlier key')} {r.earlier === 1 ? 'is' : 'are'} sealed to it: those that are
        sealed to nobody else can never be opened again.
      </p>
      {r.holder === 'company' && <p>The company destroys the private half itself; here it is noted.</p>}
      <Failed error={destroy.error} />
      <div className="flex justify-end gap-2">
        <button type="button" className="btn btn-sm" onClick={onDone}>
          Keep it
        </button>
        <button type="button" className="btn btn-error btn-sm" disabled={destroy.isPending} onClick={() => destroy.mutate()}>
          Destroy it
        </button>
      </div>
    </div>
  );
}
