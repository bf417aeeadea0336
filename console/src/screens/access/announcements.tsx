// What one wants to be told, by e-mail or by a webhook.
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, got } from '../../api/client';
import { useWrite } from '../../api/writes';
import { announce } from '../../ui/announce';
import { Failed, Field, Fold, Heads, Sheet } from '../../ui/parts';
import { Time } from '../../ui/words';

const key = ['announcements'];
export const useAnnouncements = () => useQuery({ queryKey: key, queryFn: () => got(api.GET('/api/v1/announcements')) });

const topicWords: Record<string, string> = {
  'rollout-stopped': 'A rollout stopped by itself',
  'rollout-ready': 'A wave waits for a person',
  'rollout-finished': 'A rollout has finished, or is taken back',
  'review-wanted': 'A change is sent to you for review',
  'exception-lapses': 'An exception ends in 14 or in 3 days',
  'baseline-below': 'Fewer laptops comply with a baseline than its line wants',
};

export function Announcements() {
  const known = useAnnouncements().data;
  const [mail, setMail] = useState<string[]>();
  const [webhook, setWebhook] = useState<string[]>();
  const [hook, setHook] = useState<string>();
  const by = { mail: mail ?? known?.mail ?? [], webhook: webhook ?? known?.webhook ?? [] };
  const address = hook ?? known?.hook ?? '';
  const save = useWrite(() => got(api.PUT('/api/v1/announcements', { body: { ...by, ...(address ? { hook: address } : {}) } })), {
    alters: [key],
    done: () => announce('What you want to be told is kept.'),
  });
  if (!known) return null;
  const toggle = (list: string[], topic: string) => (list.includes(topic) ? list.filter((t) => t !== topic) : [...list, topic]);
  return (
    <Sheet title="Announcements">
      <form
        className="flex flex-col gap-3 px-4 py-3 text-sm"
        onSubmit={(e) => {
          e.preventDefault();
          save.mutate();
        }}
      >
        <div className="overflow-x-auto">
          <table className="table table-sm">
            <caption className="sr-only">What you want to be told, and how</caption>
            <Heads of={['Tell me when', 'E-mail', 'Webhook']} />
            <tbody>
              {known.topics.map((t) => (
                <tr key={t}>
                  <th scope="row">{topicWords[t] ?? t}</th>
                  <td>
                    <input
                      type="checkbox"
                      className="checkbox checkbox-sm"
                      aria-label={`${topicWords[t]}: by e-mail`}
                      checked={by.mail.includes(t)}
                      onChange={() => setMail(toggle(by.mail, t))}
                    />
                  </td>
                  <td>
                    <input
                      type="checkbox"
                      className="checkbox checkbox-sm"
                      aria-label={`${topicWords[t]}: by webhook`}
                      checked={by.webhook.includes(t)}
                      onChange={() => setWebhook(toggle(by.webhook, t))}
                    />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
        <p className="quiet text-[13px]">
          {!known.sends_mail
            ? 'This service has no SMTP server: no e-mail is sent.'
            : known.address
              ? `E-mail goes to ${known.address}.`
              : 'No e-mail address of yours is known: the estate has no person with the name of your account.'}
        </p>
        <Field label="Address of your webhook" hint="At a host that the operator of the service allows. Requests are signed (RFC 9421, Ed25519).">
          <input className="input input-sm w-full" type="url" value={address} onChange={(e) => setHook(e.target.value)} placeholder="https://" />
        </Field>
        {known.public_key && (
          <p className="text-[13px]">
            <span className="quiet">Verify with the key</span> <span className="id break-all">{known.public_key}</span>
          </p>
        )}
        <Failed error={save.error} />
        <button type="submit" className="btn btn-primary btn-sm self-end" disabled={save.isPending}>
          Save
        </button>
      </form>
      {known.sent.length > 0 && (
        <Fold className="border-t border-base-300/60 px-4 py-2" summary={<span className="text-[13px]">What you were told last</span>}>
          <ul className="py-1 text-sm">
            {known.sent.map((a) => (
              <li key={a.at + a.channel + a.title} className="flex items-baseline justify-between gap-3 py-0.5">
                <Link className="link-hover link min-w-0 truncate" to={a.path}>
                  {a.title}
                </Link>
                <span className={`text-[13px] ${a.state === 'failed' ? 'text-error' : 'quiet'}`} title={a.fault}>
                  {a.channel}, {a.state} <Time at={a.at} />
                </span>
              </li>
            ))}
          </ul>
        </Fold>
      )}
    </Sheet>
  );
}
