// Asking for a key: what is compared at the laptop, a second person where one has to consent, and the key for a minute.
import { useQuery } from '@tanstack/react-query';
import { useEffect, useState, type FormEvent } from 'react';
import { api, got } from '../../api/client';
import { queries } from '../../api/queries';
import { useWrite } from '../../api/writes';
import { Failed, Field } from '../../ui/parts';
import { Time } from '../../ui/words';
import { recoveryKey, requestsKey, spaced, titleOf, type FoundLaptop, type KeyRequest, type ShownKey } from './words';

export function AskForm({ of, onDone }: { of: FoundLaptop; onDone: () => void }) {
  const [request, setRequest] = useState<KeyRequest>();
  if (request) return <Requested start={request} onDone={onDone} />;
  return <Compare of={of} onAsked={setRequest} />;
}

/** What whoever stands before the laptop reads out. It is entered and not picked, so that it is really compared. */
function Compare({ of, onAsked }: { of: FoundLaptop; onAsked: (r: KeyRequest) => void }) {
  const [identifier, setIdentifier] = useState('');
  const people = of.retired ? [] : [of.owner, ...of.users].filter((n) => n !== undefined);
  const anybody = of.retired ? 'The laptop was retired' : 'The laptop is shared';
  const ask = useWrite(
    (body: { device: string; identifier: string; person: string; model: string; reason: string }) => got(api.POST('/api/v1/key-requests', { body })),
    {
      alters: [recoveryKey],
      done: onAsked,
    },
  );
  const send = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const form = new FormData(e.currentTarget);
    const text = (name: string) => String(form.get(name) ?? '').trim();
    ask.mutate({ device: of.device, identifier, person: text('person'), model: text('model'), reason: text('reason') });
  };
  return (
    <form className="flex flex-col gap-3 text-sm" onSubmit={send} autoComplete="off">
      <p>Ask the person to read these out, at the laptop. A wrong entry is recorded.</p>
      <div className="grid gap-3 sm:grid-cols-2">
        <Field label="Identifier on the locked screen" hint="12 digits">
          <input
            required
            autoFocus
            inputMode="numeric"
            value={identifier}
            onChange={(e) => setIdentifier(spaced(e.target.value).slice(0, 14))}
            className="input input-sm w-full font-mono text-base tracking-wider"
            placeholder="0000 0000 0000"
          />
        </Field>
        <Field label="Model that is printed on it">
          <input name="model" required className="input input-sm w-full" />
        </Field>
      </div>
      <Field
        label="Person who stands before it"
        hint={people.length ? 'Somebody else cannot be told the key' : `${anybody}: the id of whoever stands before it`}
      >
        {people.length ? (
          <select name="person" required defaultValue="" className="select select-sm w-full">
            <option value="" disabled>
              Who is it?
            </option>
            {people.map((p) => (
              <option key={p.id} value={p.id}>
                {titleOf(p)}
              </option>
            ))}
          </select>
        ) : (
          <input name="person" required className="input input-sm w-full" />
        )}
      </Field>
      <Field label="Reason" hint="At least 10 characters. It is recorded, and the owner is told">
        <textarea name="reason" required minLength={10} maxLength={500} rows={2} className="textarea textarea-sm w-full" />
      </Field>
      <Failed error={ask.error} />
      <button type="submit" className="btn btn-primary btn-sm self-end" disabled={ask.isPending}>
        Compare
      </button>
    </form>
  );
}

/** A request that was made: it waits for a second person, or the key can be seen. */
function Requested({ start, onDone }: { start: KeyRequest; onDone: () => void }) {
  const { data: r = start } = useQuery({
    queryKey: [...requestsKey, start.id],
    queryFn: () => got(api.GET('/api/v1/key-requests/{id}', { params: { path: { id: start.id } } })),
    initialData: start,
    refetchInterval: (q) => (q.state.data?.state === 'waiting' ? 2000 : false),
  });
  const [key, setKey] = useState<ShownKey>();
  const [over, setOver] = useState(false);
  const [error, setError] = useState<unknown>();
  // The key is in the state of this part alone: no query keeps it.
  const show = () =>
    got(api.POST('/api/v1/key-requests/{id}/key', { params: { path: { id: r.id } }, body: {} }))
      .then(setKey)
      .catch(setError)
      .finally(() => void queries.invalidateQueries({ queryKey: recoveryKey }));
  if (over)
    return (
      <div className="flex flex-col gap-3 text-sm" role="status">
        <p>The key is not shown any more. The laptop makes another one at its next check-in. If it is needed again before that, ask again.</p>
        <button type="button" className="btn btn-sm self-end" onClick={onDone}>
          Close
        </button>
      </div>
    );
  if (key)
    return (
      <Shown
        of={key}
        onOver={() => {
          setKey(undefined);
          setOver(true);
        }}
      />
    );
  return (
    <div className="flex flex-col gap-3 text-sm">
      {r.state === 'waiting' && (
        <p role="status">
          All is as it should be. A second person has to consent: request <span className="id">{r.id}</span>, until <Time at={r.expires_at} />. Ask a colleague
          to open <em>Recovery keys</em>. This goes on by itself.
        </p>
      )}
      {r.state === 'refused' && <p role="alert">{r.consent_by} refused the request.</p>}
      {r.state === 'open' && (
        <>
          <p role="status">
            All is as it should be{r.consent_by && <>, and {r.consent_by} has consented</>}. The key can be seen once, for a minute. The owner is told, and the
            laptop puts another key in its place at its next check-in.
          </p>
          <Failed error={error} />
          <button type="button" className="btn btn-primary btn-sm self-end" autoFocus onClick={() => void show()}>
            Show the key for a minute
          </button>
        </>
      )}
    </div>
  );
}

/** The key, until its time is over or somebody is done with it. */
function Shown({ of, onOver }: { of: ShownKey; onOver: () => void }) {
  const [left, setLeft] = useState(of.seconds);
  useEffect(() => {
    const end = Date.now() + of.seconds * 1000;
    const tick = setInterval(() => {
      const seconds = Math.ceil((end - Date.now()) / 1000);
      setLeft(Math.max(0, seconds));
      if (seconds <= 0) onOver();
    }, 250);
    const hide = () => document.hidden && onOver(); // nobody looks at it
    document.addEventListener('visibilitychange', hide);
    return () => {
      clearInterval(tick);
      document.removeEventListener('visibilitychange', hide);
    };
    // onOver is another function at each drawing, and does the same.
    // oxlint-disable-next-line react-hooks/exhaustive-deps
  }, [of]);
  const groups = (of.key ?? '').split(' ');
  return (
    <div className="flex flex-col gap-4 text-sm">
      {of.key ? (
        <>
          <p>
            {of.device}, {of.name}, identifier <span className="font-mono">{of.identifier}</span>. Read it out in groups; it is typed without the spaces.
          </p>
          <div className="grid grid-cols-4 gap-x-4 gap-y-3 rounded border border-base-300 bg-base-200 px-5 py-4 font-mono text-2xl" data-key>
            {groups.map((g, i) => (
              <span key={i} className="flex items-baseline gap-2">
                <span className="quiet w-4 text-right text-xs select-none" aria-hidden>
                  {i + 1}
                </span>
                <span className="tracking-[0.2em]">{g}</span>
              </span>
            ))}
          </div>
        </>
      ) : (
        <div className="flex flex-col gap-2">
          <p>
            The service cannot open this key: it is sealed to a company’s identity alone. Take it to whoever has the private half, who opens it with{' '}
            <code>age -d -i IDENTITY FILE</code>.
          </p>
          <a className="btn btn-sm self-start" href={`data:application/octet-stream;base64,${of.sealed ?? ''}`} download={`${of.device}.age`}>
            Save the sealed key
          </a>
        </div>
      )}
      <div className="flex items-center gap-3">
        <progress className="progress progress-primary flex-1" value={left} max={of.seconds} aria-label="Time until the key disappears" />
        <span className="w-24 text-right tabular-nums" role="timer">
          {left} seconds
        </span>
        <button type="button" className="btn btn-sm" onClick={onOver}>
          Done
        </button>
      </div>
    </div>
  );
}
