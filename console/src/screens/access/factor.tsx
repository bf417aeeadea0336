// The second factor of one's own account: one-time codes of an app, and recovery codes.
import { useMutation, useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { api, got } from '../../api/client';
import { keys, queries } from '../../api/queries';
import { Failed, Field, Loading, Sheet } from '../../ui/parts';
import { Status } from '../../ui/words';
import { texts } from '../../ui/shape';

const key = [...keys.who, 'second-factor'];
const altered = () => queries.invalidateQueries({ queryKey: keys.who });

/** Whether the account has a second factor. */
export const useSecondFactor = () => useQuery({ queryKey: key, queryFn: () => got(api.GET('/api/v1/second-factor')) });

export function SecondFactor() {
  const state = useSecondFactor();
  const [codes, setCodes] = useState<string[]>([]);
  const begin = useMutation({ mutationFn: () => got(api.POST('/api/v1/second-factor')) });
  const turnOn = useMutation({
    mutationFn: (code: string) => got(api.PUT('/api/v1/second-factor', { body: { code } })),
    onSuccess: async ({ codes }) => {
      setCodes(codes);
      begin.reset();
      await altered();
    },
  });
  const renew = useMutation({
    mutationFn: () => got(api.POST('/api/v1/second-factor/recovery-codes')),
    onSuccess: async ({ codes }) => {
      setCodes(codes);
      await altered();
    },
  });
  const turnOff = useMutation({
    mutationFn: () => got(api.DELETE('/api/v1/second-factor')),
    onSuccess: async () => {
      setCodes([]);
      await altered();
    },
  });
  const f = state.data;
  return (
    <Sheet title="Second factor" aside={f && (f.active ? <Status of="active" /> : 'not set up')}>
      <div className="flex flex-col gap-3 px-4 py-3 text-sm">
        <Failed error={state.error ?? begin.error ?? turnOn.error ?? renew.error ?? turnOff.error} />
        {state.isPending && <Loading rows={1} />}
        {f && !f.active && !begin.data && (
          <>
            <p>
              {f.demanded
                ? 'Your role demands a second factor. Until it is set up, you may do nothing else.'
                : 'With a second factor a stolen password is not enough to sign in. You need an app of one-time codes on your phone.'}
            </p>
            <button type="button" className="btn btn-sm self-start" disabled={begin.isPending} onClick={() => begin.mutate()}>
              Set up one-time codes …
            </button>
          </>
        )}
        {begin.data && (
          <form
            className="flex flex-wrap items-start gap-4"
            onSubmit={(e) => {
              const text = texts(e);
              turnOn.mutate(text('code'));
            }}
          >
            <img
              src={`data:image/png;base64,${begin.data.picture}`}
              alt="QR code with the secret for your app"
              width={160}
              height={160}
              className="bg-white p-2"
            />
            <div className="flex min-w-56 flex-1 flex-col gap-3">
              <p>Scan the code with your app, or type this secret into it:</p>
              <p className="id break-all">{begin.data.secret.match(/.{1,4}/g)?.join(' ')}</p>
              <Field label="First code" hint="Six digits that the app shows now">
                <input name="code" required autoComplete="one-time-code" inputMode="numeric" className="input input-sm w-40 font-mono" />
              </Field>
              <button type="submit" className="btn btn-primary btn-sm self-start" disabled={turnOn.isPending}>
                Turn on
              </button>
            </div>
          </form>
        )}
        {codes.length > 0 && (
          <div role="status">
            <p className="mb-2">Keep these recovery codes in a safe place. Each signs you in once without your app. They are not shown again.</p>
            <ul className="id grid grid-cols-2 gap-1">
              {codes.map((c) => (
                <li key={c}>{c}</li>
              ))}
            </ul>
          </div>
        )}
        {f?.active && (
          <div className="flex flex-wrap items-center gap-2">
            <span className="quiet">{f.recovery} recovery codes left.</span>
            <button type="button" className="btn btn-sm" disabled={renew.isPending} onClick={() => renew.mutate()}>
              New recovery codes
            </button>
            <button type="button" className="btn btn-sm" disabled={turnOff.isPending} onClick={() => turnOff.mutate()}>
              Turn off
            </button>
          </div>
        )}
      </div>
    </Sheet>
  );
}
