// Recovery keys at the service desk: find the laptop, compare, see its key once.
import { useQuery } from '@tanstack/react-query';
import { useState, type FormEvent } from 'react';
import { Link, useSearchParams } from 'react-router';
import { api, got } from '../../api/client';
import { useKeyRequests, useMay } from '../../api/queries';
import { useWrite } from '../../api/writes';
import { Dialog, Empty, Failed, Field, Heads, Loading, Page, Sheet } from '../../ui/parts';
import { count, Time } from '../../ui/words';
import { AskForm } from './ask';
import { requestsKey, recoveryKey, stateWords, titleOf, type FoundLaptop } from './words';

const ways = [
  { name: 'serial', label: 'Serial number', hint: 'As on the label. Similar ones are shown, too; ? stands for what nobody can read' },
  { name: 'owner', label: 'Person', hint: 'A part of the name of who owns or uses it' },
  { name: 'identifier', label: 'Identifier', hint: 'The 12 digits on the locked screen; ? stands for a digit that nobody can read, at most two' },
] as const;

export function KeysScreen() {
  const may = useMay('recovery-keys');
  const [params, setParams] = useSearchParams();
  const query = Object.fromEntries(ways.map((w) => [w.name, params.get(w.name) ?? '']).filter(([, v]) => v));
  const device = params.get('device');
  const asked = device ? { device } : query;
  const searching = may && Object.keys(asked).length > 0;
  const found = useQuery({
    queryKey: [...recoveryKey, 'find', asked],
    queryFn: () => got(api.GET('/api/v1/recovery-laptops', { params: { query: asked } })),
    enabled: searching,
    retry: false,
  });
  const [chosen, setChosen] = useState<FoundLaptop>();
  const search = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const form = new FormData(e.currentTarget);
    setParams(Object.fromEntries(ways.map((w) => [w.name, String(form.get(w.name) ?? '').trim()]).filter(([, v]) => v)));
  };
  return (
    <Page
      title="Recovery keys"
      lead="Somebody stands before a locked laptop. Find it, compare what is on its screen and its label, and see its key once."
      actions={
        <Link to="/coverage" className="btn btn-sm">
          Encryption and coverage
        </Link>
      }
    >
      {!may && (
        <div className="sheet">
          <Empty
            action={
              <Link to="/coverage" className="btn btn-sm">
                See how far laptops are encrypted
              </Link>
            }
          >
            You may not see recovery keys. The right “See a recovery key” is granted by name, for a unit: ask whoever manages accounts.
          </Empty>
        </div>
      )}
      {may && (
        <>
          <WaitingForMe />
          <form key={params.toString()} className="sheet grid items-start gap-4 px-4 py-3 md:grid-cols-[1fr_1fr_1fr_auto]" onSubmit={search}>
            {ways.map((w, i) => (
              <Field key={w.name} label={w.label} hint={w.hint}>
                <input
                  name={w.name}
                  defaultValue={params.get(w.name) ?? ''}
                  autoFocus={i === 0}
                  autoComplete="off"
                  spellCheck={false}
                  className={`input input-sm w-full ${w.name === 'owner' ? '' : 'font-mono'}`}
                />
              </Field>
            ))}
            <button type="submit" className="btn btn-primary btn-sm mt-6">
              Find laptops
            </button>
          </form>
          <Failed error={found.error} />
          {searching && found.isPending && <Loading />}
          {found.data && <Found list={found.data} onChoose={setChosen} />}
        </>
      )}
      <Dialog open={!!chosen} onClose={() => setChosen(undefined)} title={`The recovery key of ${chosen?.device ?? ''}`} wide>
        {chosen && <AskForm of={chosen} onDone={() => setChosen(undefined)} />}
      </Dialog>
    </Page>
  );
}

function Found({ list, onChoose }: { list: FoundLaptop[]; onChoose: (f: FoundLaptop) => void }) {
  if (list.length === 0)
    return (
      <div className="sheet">
        <Empty>No laptop of your units is like it. Read the number again, or search by the person.</Empty>
      </div>
    );
  const similar = list.some((f) => f.differs.length > 0);
  return (
    <Sheet title={count(list.length, 'laptop')} aside={similar && 'marked: what is otherwise than you entered. Compare it with the label'}>
      <div className="overflow-x-auto">
        <table className="table table-sm">
          <caption className="sr-only">Laptops that were found</caption>
          <Heads of={['Serial number', 'Laptop', 'Model', 'Owner, and who else uses it', 'Unit', 'Disk', 'Key since']} actions />
          <tbody>
            {list.map((f) => (
              <tr key={f.device}>
                <th scope="row" className="font-mono font-normal whitespace-nowrap">
                  <Serial of={f} />
                </th>
                <td>
                  {f.retired ? (
                    <span className="id">{f.device}</span>
                  ) : (
                    <Link className="id link" to={`/devices/${encodeURIComponent(f.device)}`}>
                      {f.device}
                    </Link>
                  )}
                </td>
                <td>{f.model || '–'}</td>
                <td>
                  {[f.owner, ...f.users]
                    .filter((n) => n)
                    .map(titleOf)
                    .join(', ') || <span className="quiet">nobody: shared</span>}
                </td>
                <td>{f.retired ? <span className="quiet">retired</span> : titleOf(f.unit)}</td>
                <td>{f.volumes.length ? f.volumes.map((v) => stateWords[v.state]).join(', ') : <span className="quiet">not reported</span>}</td>
                <td>
                  {f.key_since ? <Time at={f.key_since} /> : <span className="quiet">no key is stored</span>}
                  {f.key_used_at && (
                    <div className="text-[13px] text-warning">
                      shown <Time at={f.key_used_at} />, not replaced yet
                    </div>
                  )}
                </td>
                <td className="text-right">
                  {f.key_since && (
                    <button type="button" className="btn btn-xs" aria-label={`Compare ${f.device} and see its key`} onClick={() => onChoose(f)}>
                      Compare …
                    </button>
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </Sheet>
  );
}

/** A serial number, in which what is otherwise than what was asked is marked. */
function Serial({ of }: { of: FoundLaptop }) {
  const letters = [...(of.serial ?? '')];
  if (of.differs.length === 0) return <>{of.serial}</>;
  return (
    <>
      {letters.map((c, i) =>
        of.differs.includes(i) ? (
          <mark key={i} className="rounded bg-warning/25 px-px font-semibold text-base-content">
            {c}
          </mark>
        ) : (
          c
        ),
      )}
      <span className="sr-only">, similar to what you entered</span>
    </>
  );
}

/** Requests of others that wait for the reader as the second person. */
function WaitingForMe() {
  const list = useKeyRequests(true);
  const decide = useWrite(
    ({ id, consent }: { id: string; consent: boolean }) => got(api.POST('/api/v1/key-requests/{id}/decision', { params: { path: { id } }, body: { consent } })),
    { alters: [requestsKey] },
  );
  if (!list.data?.length) return <Failed error={list.error} />;
  return (
    <Sheet title="Waiting for you as the second person" aside={count(list.data.length, 'request')}>
      <Failed error={decide.error} />
      <ul className="divide-y divide-base-300 text-sm">
        {list.data.map((r) => (
          <li key={r.id} className="flex flex-wrap items-center justify-between gap-3 px-4 py-2.5">
            <span className="min-w-0">
              <strong>{r.by}</strong> wants to see the key of{' '}
              <Link className="id link" to={`/devices/${encodeURIComponent(r.device)}`}>
                {r.device}
              </Link>{' '}
              for {r.person}: {r.reason}{' '}
              <span className="quiet">
                · asked <Time at={r.at} />
              </span>
            </span>
            <span className="flex shrink-0 gap-2">
              <button
                type="button"
                className="btn btn-primary btn-xs"
                aria-label={`Consent to ${r.by}'s request for ${r.device}`}
                disabled={decide.isPending}
                onClick={() => decide.mutate({ id: r.id, consent: true })}
              >
                Consent
              </button>
              <button
                type="button"
                className="btn btn-ghost btn-xs"
                aria-label={`Refuse ${r.by}'s request for ${r.device}`}
                disabled={decide.isPending}
                onClick={() => decide.mutate({ id: r.id, consent: false })}
              >
                Refuse
              </button>
            </span>
          </li>
        ))}
      </ul>
    </Sheet>
  );
}
