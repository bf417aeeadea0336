// Passkeys of one's own account: made by this browser or a device beside it, listed, removed.
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, got, Refusal } from '../../api/client';
import { keys, queries } from '../../api/queries';
import { Failed, Field, Loading, Sheet } from '../../ui/parts';
import { Time } from '../../ui/words';
import { texts } from '../../ui/shape';

const key = [...keys.who, 'passkeys'];

/** Browsers have passkeys on secure pages alone, and for host names, not for IP addresses. */
export const hasPasskeys = () => 'PublicKeyCredential' in window && !/^[\d.]+$|:/.test(window.location.hostname);

/** An answer of a device as the API takes it. */
const answerOf = (credential: Credential | null) => {
  if (!(credential instanceof PublicKeyCredential)) throw new Error('The device gave no passkey.');
  return credential.toJSON() as unknown as Record<string, unknown>;
};

/** What the service gives as options is in the JSON form of WebAuthn. */
interface Options<T> {
  publicKey: T;
}

async function addPasskey(name: string) {
  const { options } = await got(api.POST('/api/v1/passkeys/options'));
  const { publicKey } = options as Options<PublicKeyCredentialCreationOptionsJSON>;
  const made = await navigator.credentials.create({ publicKey: PublicKeyCredential.parseCreationOptionsFromJSON(publicKey) });
  await got(api.POST('/api/v1/passkeys', { body: { name, credential: answerOf(made) } }));
}

/** Signs in with a passkey of this browser or of a device beside it. */
export async function signInWithPasskey() {
  const { id = '', options } = await got(api.POST('/api/v1/session/passkey/options'));
  const { publicKey } = options as Options<PublicKeyCredentialRequestOptionsJSON>;
  const answer = await navigator.credentials.get({ publicKey: PublicKeyCredential.parseRequestOptionsFromJSON(publicKey) });
  await got(api.POST('/api/v1/session/passkey', { body: { id, credential: answerOf(answer) } }));
}

/** What went wrong, in words: browsers say little when somebody turns away from their question. */
export const passkeyFailed = (error: unknown) =>
  error instanceof Refusal || error === null ? error : new Error('No passkey was given. Try again, or use another way.');

/** The passkeys of the account. */
export const usePasskeys = () => useQuery({ queryKey: key, queryFn: () => got(api.GET('/api/v1/passkeys')) });

export function Passkeys() {
  const list = usePasskeys();
  const [adding, setAdding] = useState(false);
  const add = useMutation({
    mutationFn: addPasskey,
    onSuccess: async () => {
      setAdding(false);
      await queries.invalidateQueries({ queryKey: keys.who });
    },
  });
  const remove = useMutation({
    mutationFn: (id: string) => got(api.DELETE('/api/v1/passkeys/{id}', { params: { path: { id } } })),
    onSettled: () => queries.invalidateQueries({ queryKey: key }),
  });
  return (
    <Sheet title="Passkeys" aside="Sign in without a password">
      <div className="flex flex-col gap-3 px-4 py-3 text-sm">
        <Failed error={list.error ?? passkeyFailed(add.error) ?? remove.error} />
        {list.isPending && <Loading rows={1} />}
        {list.data?.map((p) => (
          <div key={p.id} className="flex items-center justify-between gap-2">
            <span>
              {p.name}{' '}
              <span className="quiet">
                {p.used_at ? (
                  <>
                    used <Time at={p.used_at} />
                  </>
                ) : (
                  'not used yet'
                )}
              </span>
            </span>
            <button
              type="button"
              aria-label={`Remove ${p.name}`}
              className="btn btn-ghost btn-xs"
              disabled={remove.isPending}
              onClick={() => remove.mutate(p.id)}
            >
              Remove
            </button>
          </div>
        ))}
        {!hasPasskeys() && (
          <p className="quiet">Browsers have passkeys for host names over HTTPS, and for localhost. This page was opened by an IP address or without HTTPS.</p>
        )}
        {hasPasskeys() && !adding && (
          <button type="button" className="btn btn-sm self-start" onClick={() => setAdding(true)}>
            Add a passkey …
          </button>
        )}
        {adding && (
          <form
            className="flex flex-col gap-3"
            onSubmit={(e) => {
              const text = texts(e);
              add.mutate(text('name'));
            }}
          >
            <Field label="Which device" hint="Such as phone, or work laptop">
              <input name="name" required maxLength={80} autoFocus className="input input-sm w-full" />
            </Field>
            <button type="submit" className="btn btn-primary btn-sm self-start" disabled={add.isPending}>
              Make the passkey
            </button>
          </form>
        )}
      </div>
    </Sheet>
  );
}
