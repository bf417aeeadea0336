// Choosing the moment that the pages show, and the note on every page while it is not now.
import { History } from 'lucide-react';
import { useState } from 'react';
import { Link, useLocation } from 'react-router';
import { showMoment, useMoment } from '../api/moment';
import { Dialog } from './parts';
import { exact, minute, now } from './words';

/** The places that have a past. All others show what is now. */
const withPast = ['/policies', '/groups', '/units', '/dictionary', '/conflicts', '/exceptions', '/rollouts', '/accounts'];

/** Opens the choice of a moment. */
export function MomentButton() {
  const [open, setOpen] = useState(false);
  const [typed, setTyped] = useState('');
  const at = useMoment();
  const show = () => {
    setOpen(false);
    showMoment(new Date(typed).toISOString());
  };
  return (
    <>
      <button
        type="button"
        className="btn btn-ghost btn-sm"
        aria-pressed={!!at}
        title="Show policies, groups, conflicts, exceptions and rollouts as they were"
        onClick={() => {
          setTyped(minute(at ? new Date(at) : new Date(now() - 24 * 3600_000)));
          setOpen(true);
        }}
      >
        <History size={16} aria-hidden />
        <span className="hidden font-normal md:inline">{at ? exact(at) : 'Now'}</span>
        <span className="sr-only">: choose the moment that is shown</span>
      </button>
      <Dialog open={open} onClose={() => setOpen(false)} title="Show the past">
        <form
          className="flex flex-col gap-3 text-sm"
          onSubmit={(e) => {
            e.preventDefault();
            show();
          }}
        >
          <p>Policies, groups, units, conflicts, exceptions, rollouts and grants are shown as they were then. Nothing can be altered meanwhile.</p>
          <label className="flex flex-col gap-1">
            Moment
            <input
              type="datetime-local"
              required
              className="input input-sm w-60"
              value={typed}
              max={minute(new Date(now()))}
              onChange={(e) => setTyped(e.target.value)}
            />
          </label>
          <div className="flex justify-end gap-2">
            <button type="button" className="btn btn-sm" data-cancel onClick={() => setOpen(false)}>
              Cancel
            </button>
            <button type="submit" className="btn btn-primary btn-sm">
              Show
            </button>
          </div>
        </form>
      </Dialog>
    </>
  );
}

/** Says on every page which moment it shows, while that is not now. */
export function MomentNote() {
  const at = useMoment();
  const { pathname } = useLocation();
  if (!at) return null;
  const there = withPast.some((p) => pathname === p || pathname.startsWith(`${p}/`));
  const device = /^\/devices\/([^/]+)$/.exec(pathname)?.[1];
  return (
    <div
      role="status"
      className="sticky top-0 z-20 flex flex-wrap items-center gap-x-3 gap-y-1 border-b border-warning/50 bg-base-100 px-5 py-1.5 text-sm print:static"
    >
      <History size={15} aria-hidden className="text-warning" />
      <span className="flex-1">
        {there ? (
          <>
            As it was on <strong className="font-semibold">{exact(at)}</strong>. Nothing can be altered.
          </>
        ) : (
          <>
            This page shows what is <strong className="font-semibold">now</strong>; other pages show {exact(at)}.
            {device && (
              <>
                {' '}
                <Link className="link" to={`/devices/${device}/past?at=${encodeURIComponent(minute(new Date(at)))}`}>
                  This laptop at that moment
                </Link>
              </>
            )}
          </>
        )}
      </span>
      <button type="button" className="btn btn-xs print:hidden" onClick={() => showMoment(undefined)}>
        Back to now
      </button>
    </div>
  );
}
