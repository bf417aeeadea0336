// The end of a session: it is said before it comes, and after it somebody signs in again where they are. What they typed stays, and
// what the service refused meanwhile is sent again.
import { useEffect, useState } from 'react';
import { api, got, idle, onSessionEnd, touchedWithin, type Who } from '../api/client';
import { keys, queries } from '../api/queries';
import { announce } from './announce';
import { Dialog } from './parts';
import { SignInForm } from './signinform';

/** Milliseconds before the end of a session at which it is said: two minutes, or half the session where that is less. */
const warnBefore = (left: number) => Math.min(120_000, left / 2);

/** Asks who is signed in. It counts as use of the session where this page was touched within some milliseconds. */
const askWho = (within = 60_000) =>
  queries.fetchQuery({
    queryKey: keys.who,
    queryFn: () => got(api.GET('/api/v1/session', { headers: touchedWithin(within) ? {} : idle })),
    staleTime: 0,
  });

/** Signs out, and forgets what is this person's: what was typed and not kept, and which change was open. */
export const signOut = () =>
  void api.DELETE('/api/v1/session').then(() => {
    queries.clear();
    sessionStorage.clear();
    localStorage.removeItem('open-change');
    location.assign('/');
  });

export function SessionEnd({ who }: { who: Who }) {
  const [ending, setEnding] = useState<number>(); // seconds left, once the end is near
  const [ended, setEnded] = useState<((again: boolean) => void) | null>(null);
  useEffect(() => {
    onSessionEnd(() => new Promise((resolve) => setEnded(() => resolve)));
    return () => onSessionEnd(undefined);
  }, []);
  const endsAt = who.ends_at;
  useEffect(() => {
    if (!endsAt) return;
    setEnding(undefined);
    const until = Date.parse(endsAt);
    const before = warnBefore(until - Date.now());
    let timer: ReturnType<typeof setTimeout>;
    const check = async () => {
      const now = await askWho(before / 2); // another page may have used the session meanwhile
      if (Date.parse(now.ends_at ?? '') > until) return; // this effect runs again, with the new end
      const seconds = Math.max(0, Math.round((until - Date.now()) / 1000));
      setEnding(seconds);
      announce(`Your session ends in ${inWords(seconds)}, because nobody used it. What you typed is kept.`);
      timer = setTimeout(() => void askWho(before / 2).catch(() => undefined), until - Date.now() + 500); // it is refused, which asks to sign in
    };
    timer = setTimeout(() => void check().catch(() => undefined), until - before - Date.now());
    return () => clearTimeout(timer);
  }, [endsAt]);
  const stay = () => void askWho().then(() => announce('You stay signed in.'));
  const signedIn = async () => {
    const now = await askWho();
    if (now.name !== who.name) return location.assign('/'); // somebody else: nothing of this page is theirs
    ended?.(true);
    setEnded(null);
    void queries.invalidateQueries();
    announce('You are signed in again. What you typed is kept.');
  };
  return (
    <>
      {ending !== undefined && !ended && (
        <div className="flex flex-wrap items-center gap-3 border-t-2 border-warning bg-base-100 px-5 py-2 text-sm">
          <span>Your session ends in {inWords(ending)}, because nobody used it. What you typed is kept.</span>
          <button type="button" className="btn btn-sm btn-primary" onClick={stay}>
            Stay signed in
          </button>
        </div>
      )}
      <Dialog
        open={!!ended}
        onClose={() => {
          ended?.(false);
          setEnded(null);
        }}
        title="Your session has ended"
      >
        <div className="flex flex-col gap-3 text-sm">
          <p>Sign in again to go on where you are. What you typed is kept.</p>
          <SignInForm name={who.name} onDone={signedIn} />
          <a className="link quiet self-start" href="/">
            Sign in as somebody else
          </a>
        </div>
      </Dialog>
    </>
  );
}

/** A number of seconds, as people say it. */
const inWords = (seconds: number) => (seconds < 90 ? `${seconds} ${seconds === 1 ? 'second' : 'seconds'}` : `${Math.round(seconds / 60)} minutes`);
