// Asks for the password again, before what matters: publishing, granting, keys. The request that the service refused is sent again afterwards.
import { useMutation, useQuery } from '@tanstack/react-query';
import { useEffect, useState, type FormEvent } from 'react';
import { api, got, onConfirm } from '../api/client';
import { Dialog, Failed, Field } from './parts';

export function ConfirmDialog() {
  const [answer, setAnswer] = useState<((confirmed: boolean) => void) | null>(null);
  useEffect(() => onConfirm(() => new Promise((resolve) => setAnswer(() => resolve))), []);
  const end = (confirmed: boolean) => {
    answer?.(confirmed);
    setAnswer(null);
  };
  return (
    <Dialog open={!!answer} onClose={() => end(false)} title="Is it you?">
      {answer && <ConfirmForm onDone={() => end(true)} />}
    </Dialog>
  );
}

function ConfirmForm({ onDone }: { onDone: () => void }) {
  const issuer = useQuery({ queryKey: ['ways-to-sign-in'], queryFn: () => got(api.GET('/api/v1/ways-to-sign-in')) }).data?.issuer;
  const confirm = useMutation({
    mutationFn: (body: { password: string; code?: string }) => got(api.PUT('/api/v1/session', { body })),
    onSuccess: onDone,
  });
  const send = (e: FormEvent<HTMLFormElement>) => {
    e.preventDefault();
    const form = new FormData(e.currentTarget);
    const code = String(form.get('code') ?? '');
    confirm.mutate({ password: String(form.get('password') ?? ''), ...(code ? { code } : {}) });
  };
  return (
    <form className="flex flex-col gap-3 text-sm" onSubmit={send}>
      <p>You signed in a while ago. Give your password again to go on.</p>
      <Field label="Password">
        <input name="password" type="password" required autoFocus autoComplete="current-password" className="input input-sm w-full" />
      </Field>
      <Field label="Code" hint="If you have a second factor: six digits that your app shows, or a recovery code">
        <input name="code" autoComplete="one-time-code" inputMode="numeric" className="input input-sm w-full font-mono" />
      </Field>
      <Failed error={confirm.error} />
      {issuer && (
        <p className="quiet">
          You have no password here?{' '}
          <a className="link" href="/api/v1/oidc/start?again=1">
            Sign in with {issuer} again
          </a>
          , and then repeat what you did.
        </p>
      )}
      <button type="submit" className="btn btn-primary btn-sm self-end" disabled={confirm.isPending}>
        Go on
      </button>
    </form>
  );
}
