// Signing in, and making the first administrator with the one-time code.
import { useQuery } from '@tanstack/react-query';
import { useState, type FormEvent } from 'react';
import { api, got, Refusal } from '../api/client';
import { queries } from '../api/queries';
import { Failed, Field } from '../ui/parts';
import { hasPasskeys, passkeyFailed, signInWithPasskey } from './access/passkeys';

export function SignInScreen() {
  const [first, setFirst] = useState(false);
  const issuer = useQuery({ queryKey: ['ways-to-sign-in'], queryFn: () => got(api.GET('/api/v1/ways-to-sign-in')) }).data?.issuer;
  const refused = new URLSearchParams(window.location.search).get('refused'); // by the issuer
  const [error, setError] = useState<unknown>();
  const [busy, setBusy] = useState(false);
  const [factor, setFactor] = useState(false); // the account has a second factor
  const passkey = async () => {
    setBusy(true);
    setError(undefined);
    try {
      await signInWithPasskey();
      await queries.invalidateQueries();
    } catch (refused) {
      setError(passkeyFailed(refused));
    }
    setBusy(false);
  };
  const send = async (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const form = new FormData(e.currentTarget);
    const text = (name: string) => String(form.get(name) ?? '');
    setBusy(true);
    setError(undefined);
    try {
      if (first) await got(api.POST('/api/v1/setup', { body: { code: text('code'), name: text('name'), password: text('password') } }));
      const code = text('second-factor');
      await got(api.POST('/api/v1/session', { body: { name: text('name'), password: text('password'), ...(code ? { code } : {}) } }));
      await queries.invalidateQueries();
    } catch (refused) {
      if (refused instanceof Refusal && refused.problem.code === 'second-factor') setFactor(true);
      else setError(refused);
    }
    setBusy(false);
  };
  return (
    <main className="grid h-full place-items-center p-6">
      <form onSubmit={(e) => void send(e)} className="sheet flex w-full max-w-sm flex-col gap-4 p-7">
        <div className="flex items-center gap-3">
          <img src="/mark.svg" alt="" width={34} height={34} />
          <div>
            <h1 className="text-lg font-semibold tracking-tight">Zenith Ridge</h1>
            <p className="quiet text-sm">Know what every laptop gets, before it does.</p>
          </div>
        </div>
        {first && (
          <Field label="One-time code" hint="Printed by the service at its first start">
            <input name="code" required autoComplete="one-time-code" className="input w-full font-mono" />
          </Field>
        )}
        <Field label="Name">
          <input name="name" required autoFocus autoComplete="username" className="input w-full" />
        </Field>
        <Field label="Password" hint={first ? 'At least 12 characters' : undefined}>
          <input name="password" type="password" required autoComplete={first ? 'new-password' : 'current-password'} className="input w-full" />
        </Field>
        {refused && (
          <p role="alert" className="text-sm text-error">
            {refused}
          </p>
        )}
        {factor && (
          <Field label="Code" hint="Six digits that your app shows, or a recovery code">
            <input name="second-factor" required autoFocus autoComplete="one-time-code" inputMode="numeric" className="input w-full font-mono" />
          </Field>
        )}
        <Failed error={error} />
        <button type="submit" className="btn btn-primary" disabled={busy}>
          {first ? 'Make the first administrator' : 'Sign in'}
        </button>
        {!first && hasPasskeys() && (
          <button type="button" className="btn" disabled={busy} onClick={() => void passkey()}>
            Sign in with a passkey
          </button>
        )}
        {issuer && !first && (
          <a className="btn" href="/api/v1/oidc/start">
            Sign in with {issuer}
          </a>
        )}
        <button type="button" className="link quiet self-start text-sm" onClick={() => setFirst(!first)}>
          {first ? 'Back to signing in' : 'First start? Use the one-time code'}
        </button>
      </form>
    </main>
  );
}
