// The few parts that every screen uses: page head, sheets, empty states, faults, dialogs.
import { Copy } from 'lucide-react';
import { useEffect, useId, useRef, useState, type ReactNode } from 'react';
import type { Fault } from '../api/client';
import { NotNow, Refusal } from '../api/client';
import { useAnnounced } from './announce';

/** The address that was shown last, and whether its heading got the focus; undefined before anything was shown. */
let arrived: { at: string; focused: boolean } | undefined;

/**
 * A page of the console. The title of the document is its heading. Whoever comes to it from another page gets the focus on the heading,
 * unless a field of the page has it: a screen reader then says where one is. The same holds for a page that takes the place of the one
 * that was shown while it loaded.
 */
export function Page({ title, lead, actions, children }: { title: ReactNode; lead?: ReactNode; actions?: ReactNode; children: ReactNode }) {
  const page = useRef<HTMLDivElement>(null);
  const heading = useRef<HTMLHeadingElement>(null);
  useEffect(() => {
    document.title = `${heading.current?.textContent || 'Console'} · Zenith Ridge`;
  });
  useEffect(() => {
    const before = arrived;
    const focused = document.activeElement;
    if (before?.at === location.pathname) {
      if (before.focused && focused === document.body) heading.current?.focus({ preventScroll: true });
      return;
    }
    const typing = focused instanceof HTMLElement && (page.current?.contains(focused) || focused.closest('dialog'));
    arrived = { at: location.pathname, focused: before !== undefined && !typing };
    if (arrived.focused) heading.current?.focus({ preventScroll: true });
  }, []);
  return (
    <div ref={page} className="mx-auto flex w-full max-w-[1440px] flex-col gap-4 p-2.5 sm:p-5">
      <div className="flex flex-wrap items-start justify-between gap-3">
        <div className="min-w-0">
          <h1 ref={heading} tabIndex={-1} className="text-xl font-semibold tracking-tight focus:outline-none">
            {title}
          </h1>
          {lead && <div className="quiet mt-0.5 text-sm">{lead}</div>}
        </div>
        {actions && <div className="flex flex-wrap items-center gap-2">{actions}</div>}
      </div>
      {children}
    </div>
  );
}

export function Sheet({ title, aside, children, className = '' }: { title?: ReactNode; aside?: ReactNode; children: ReactNode; className?: string }) {
  return (
    <section className={`sheet min-w-0 ${className}`}>
      {title && (
        <div className="flex items-center justify-between gap-3 border-b border-base-300 px-4 py-2.5">
          <h2 className="text-sm font-semibold">{title}</h2>
          {aside && <div className="quiet text-[13px]">{aside}</div>}
        </div>
      )}
      {children}
    </section>
  );
}

/** Says what belongs here, and what to do next. */
export function Empty({ children, action }: { children: ReactNode; action?: ReactNode }) {
  return (
    <div className="flex flex-col items-start gap-3 px-4 py-6 text-sm">
      <p className="quiet max-w-prose">{children}</p>
      {action}
    </div>
  );
}

export function Loading({ rows = 6 }: { rows?: number }) {
  return (
    <div className="flex flex-col gap-2 p-4" role="status" aria-label="Loading">
      {Array.from({ length: rows }, (_, i) => (
        <div key={i} className="skeleton h-5 rounded" />
      ))}
    </div>
  );
}

/** A refusal of the service, in words. */
export function Failed({ error }: { error: unknown }) {
  if (!error || error instanceof NotNow) return null;
  const p = error instanceof Refusal ? error.problem : undefined;
  return (
    <div role="alert" className="rounded border border-error/50 bg-error/5 px-4 py-3 text-sm">
      <p className="font-medium text-error">
        {p?.code === 'faults' && p.faults?.length
          ? `Correct ${p.faults.length} ${p.faults.length === 1 ? 'field' : 'fields'}`
          : (p?.title ?? 'The service could not be reached')}
      </p>
      {p?.faults?.length ? <Faults list={p.faults} /> : <p>{error instanceof Error ? error.message : String(error)}</p>}
      {p?.overtaken?.map((o) => (
        <p key={o.id} className="mt-1">
          <span className="id">
            {o.kind}/{o.id}
          </span>{' '}
          was published by {o.by} in change {o.change}.
        </p>
      ))}
    </div>
  );
}

export function Faults({ list }: { list: Fault[] }) {
  return (
    <ul className="mt-1 flex flex-col gap-1 text-sm">
      {list.map((f, i) => (
        <li key={i}>
          {f.path && <span className="id quiet mr-2">{f.path}</span>}
          {f.found ? <>found {f.found}, </> : null}
          {f.expected ? <>expected {f.expected}</> : f.code}
        </li>
      ))}
    </ul>
  );
}

/** Something folded away: what is in it is made when it is opened, so that long lists cost nothing before. */
export function Fold({
  summary,
  children,
  className,
  summaryClass = 'cursor-pointer',
}: {
  summary: ReactNode;
  children: ReactNode;
  className?: string;
  summaryClass?: string;
}) {
  const [open, setOpen] = useState(false);
  return (
    <details className={className} onToggle={(e) => setOpen(e.currentTarget.open)}>
      <summary className={summaryClass}>{summary}</summary>
      {open && children}
    </details>
  );
}

/** A name and what is said of it, in a list of such pairs. */
export function Fact({ name, children }: { name: string; children: ReactNode }) {
  return (
    <>
      <dt className="quiet">{name}</dt>
      <dd className="min-w-0 break-words">{children}</dd>
    </>
  );
}

/** An id that can be copied. */
export function Id({ children, copy = false }: { children: string; copy?: boolean }) {
  return (
    <span className="id inline-flex items-center gap-1 break-all">
      {children}
      {copy && (
        <button
          type="button"
          className="quiet grid size-6 cursor-pointer place-items-center rounded hover:text-primary"
          aria-label={`Copy ${children}`}
          onClick={() => void navigator.clipboard?.writeText(children)}
        >
          <Copy size={12} aria-hidden />
        </button>
      )}
    </span>
  );
}

/** A native dialog; closing it by Escape or its backdrop calls onClose. */
export function Dialog({
  open,
  onClose,
  title,
  children,
  wide = false,
}: {
  open: boolean;
  onClose: () => void;
  title: string;
  children: ReactNode;
  wide?: boolean;
}) {
  const ref = useRef<HTMLDialogElement>(null);
  useEffect(() => {
    const d = ref.current;
    if (!d) return;
    if (open && !d.open) {
      d.showModal();
      // A question begins on the safe answer. A form begins with its first field.
      if (!d.querySelector('input:not([type=checkbox], [type=radio]), select, textarea')) d.querySelector<HTMLElement>('[data-cancel]')?.focus();
    }
    if (!open && d.open) d.close();
  }, [open]);
  return (
    <dialog ref={ref} className="modal" aria-label={title} onClose={onClose}>
      {open && (
        <div className={`modal-box text-left font-normal border border-base-300 p-0 ${wide ? 'max-w-3xl' : 'max-w-lg'}`}>
          <h2 className="border-b border-base-300 px-5 py-3 font-semibold">{title}</h2>
          <div className="px-5 py-4">{children}</div>
        </div>
      )}
      <form method="dialog" className="modal-backdrop">
        <button aria-label="Close">close</button>
      </form>
    </dialog>
  );
}

/**
 * A field with its name, a hint, and what is wrong with it. Hint and faults are tied to the field and not a part of its name. A fault is
 * said once it has stayed for a moment: what is half typed is not wrong yet.
 */
export function Field({ label, hint, faults = [], children }: { label: string; hint?: ReactNode; faults?: string[]; children: ReactNode }) {
  const field = useRef<HTMLDivElement>(null);
  const told = useId();
  useEffect(() => {
    const control = field.current?.querySelector('input, select, textarea');
    if (hint || faults.length > 0) control?.setAttribute('aria-describedby', told);
    else control?.removeAttribute('aria-describedby');
    if (faults.length > 0) control?.setAttribute('aria-invalid', 'true');
    else control?.removeAttribute('aria-invalid');
  });
  useAnnounced(faults.length > 0 ? `${label}: ${faults.join(' ')}` : '');
  return (
    <div ref={field} className="flex flex-col gap-1 text-sm">
      <label className="flex flex-col gap-1">
        <span className="font-medium">{label}</span>
        {children}
      </label>
      <div id={told} className="text-[13px]">
        {hint && <span className="quiet">{hint}</span>}
        {faults.map((text) => (
          <p key={text} className="text-error">
            {text}
          </p>
        ))}
      </div>
    </div>
  );
}

/** The heads of a table's columns. One more, of a column with buttons, is read out and not seen. */
export function Heads({ of, actions }: { of: string[]; actions?: boolean }) {
  return (
    <thead>
      <tr>
        {of.map((word) => (
          <th key={word} scope="col">
            {word}
          </th>
        ))}
        {actions && (
          <th scope="col">
            <span className="sr-only">Actions</span>
          </th>
        )}
      </tr>
    </thead>
  );
}

/** Units as options of a select, those below another one indented. */
export function UnitOptions({ of }: { of: { id: string; title?: string; depth: number }[] }) {
  return of.map((u) => (
    <option key={u.id} value={u.id}>
      {'\u2007'.repeat(2 * u.depth)}
      {u.title || u.id}
    </option>
  ));
}
