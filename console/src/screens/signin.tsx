// Signing in, and making the first administrator with the one-time code.
import { useState, type FormEvent } from 'react';
import { api, got } from '../api/client';
import { queries } from '../api/queries';
import { Failed, Field } from '../ui/parts';
import { SignInForm } from '../ui/signinform';

export function SignInScreen() {
  const [first, setFirst] = useState(false);
  const refused = new URLSearchParams(window.location.search).get('refused'); // by the issuer
  return (
    <main className="grid h-full place-items-center p-6">
      <div className="sheet flex w-full max-w-sm flex-col gap-4 p-7">
        <div className="flex items-center gap-3">
          <img src="/mark.svg" alt="" width={34} height={34} />
          <div>
            <h1 className="text-lg font-semibold tracking-tight">Zenith Ridge</h1>
            <p className="quiet text-sm">Know what every laptop gets, before it does.</p>
          </div>
        </div>
        {refused && (
          <p role="alert" className="text-sm text-error">
            {refused}
          </p>
        )}
        {first ? <FirstForm /> : <SignInForm onDone={() => queries.invalidateQueries()} />}
        <button type="button" className="link quiet self-start text-sm" onClick={() => setFirst(!first)}>
          {first ? 'Back to signing in' : 'First start? Use the one-time code'}
        </button>
      </div>
    </main>
  );
}

/** Makes the first administrator, who is signed in then. */
function FirstForm() {
  const [error, setError] = useState<unknown>();
  const [busy, setBusy] = useState(false);
  const send = async (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const form = new FormData(e.currentTarget);
    const text = (name: string) => String(form.get(name) ?? '');
    setBusy(true);
    setError(undefined);
    try {
      await got(api.POST('/api/v1/setup', { body: { code: text('code'), name: text('name'), password: text('password') } }));
      await got(api.POST('/api/v1/session', { body: { name: text('name'), password: text('password') } }));
      await queries.invalidateQueries();
    } catch (failed) {
      setError(failed);
    }
    setBusy(false);
  };
  return (
    <form onSubmit={(e) => void send(e)} className="flex flex-col gap-4">
      <Field label="One-time code" hint="Printed by the service at its first start">
        <input name="code" required autoFocus autoComplete="one-time-code" className="input w-full font-mono" />
      </Field>
      <Field label="Name">
        <input name="name" required autoComplete="username" className="input w-full" />
      </Field>
      <Field label="Password" hint="At least 12 characters">
        <input name="password" type="password" required autoComplete="new-password" className="input w-full" />
      </Field>
      <Failed error={error} />
      <button type="submit" className="btn btn-primary" disabled={busy}>
        Make the first administrator
      </button>
    </form>
  );
}
