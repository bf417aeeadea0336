// The form by which somebody signs in: a name with a password and, where the account has one, the code of a second factor; or a passkey.
import { useQuery } from '@tanstack/react-query';
import { useState, type FormEvent } from 'react';
import { api, got, Refusal } from '../api/client';
import { hasPasskeys, passkeyFailed, signInWithPasskey } from '../screens/access/passkeys';
import { Failed, Field } from './parts';

/** @param name whose session it is to be, where that is certain: then it is not asked for */
export function SignInForm({ name, onDone }: { name?: string; onDone: () => unknown }) {
  const issuer = useQuery({ queryKey: ['ways-to-sign-in'], queryFn: () => got(api.GET('/api/v1/ways-to-sign-in')) }).data?.issuer;
  const [error, setError] = useState<unknown>();
  const [busy, setBusy] = useState(false);
  const [factor, setFactor] = useState(false); // the account has a second factor
  const attempt = async (signIn: () => Promise<unknown>) => {
    setBusy(true);
    setError(undefined);
    try {
      await signIn();
      await onDone();
    } catch (refused) {
      if (refused instanceof Refusal && refused.problem.code === 'second-factor') setFactor(true);
      else setError(refused);
    }
    setBusy(false);
  };
  const send = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const form = new FormData(e.currentTarget);
    const text = (field: string) => String(form.get(field) ?? '');
    const code = text('second-factor');
    void attempt(() => got(api.POST('/api/v1/session', { body: { name: name ?? text('name'), password: text('password'), ...(code ? { code } : {}) } })));
  };
  const passkey = () =>
    attempt(() =>
      signInWithPasskey().catch((refused) => {
        throw passkeyFailed(refused);
      }),
    );
  return (
    <form onSubmit={send} className="flex flex-col gap-4">
      {name ? (
        <input type="hidden" name="username" autoComplete="username" value={name} />
      ) : (
        <Field label="Name">
          <input name="name" required autoFocus autoComplete="username" className="input w-full" />
        </Field>
      )}
      <Field label={name ? `Password of ${name}` : 'Password'}>
        <input name="password" type="password" required autoFocus={!!name} autoComplete="current-password" className="input w-full" />
      </Field>
      {factor && (
        <Field label="Code" hint="Six digits that your app shows, or a recovery code">
          <input name="second-factor" required autoFocus autoComplete="one-time-code" inputMode="numeric" className="input w-full font-mono" />
        </Field>
      )}
      <Failed error={error} />
      <button type="submit" className="btn btn-primary" disabled={busy}>
        Sign in
      </button>
      {hasPasskeys() && (
        <button type="button" className="btn" disabled={busy} onClick={() => void passkey()}>
          Sign in with a passkey
        </button>
      )}
      {issuer && (
        <a className="btn" href="/api/v1/oidc/start">
          Sign in with {issuer}
        </a>
      )}
    </form>
  );
}
