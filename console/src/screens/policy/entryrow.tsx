// One setting of a policy: its control, what it does, who lacks it, where else it is set and what to do about that.
import { AlertTriangle, Lock, LockOpen, MessageSquareText, Trash2 } from 'lucide-react';
import { memo, useEffect, useId, useRef, useState } from 'react';
import { Link } from 'react-router';
import type { AlsoSet, Fault, Finding, Setting, Value } from '../../api/client';
import { announce } from '../../ui/announce';
import { Control } from '../../ui/control';
import { Fold } from '../../ui/parts';
import { count, fateWord, number, meetingText, ValueText, valueText } from '../../ui/words';
import type { LongEntry } from './entry';

interface Props {
  id: string;
  policy: string;
  entry: LongEntry;
  definition?: Setting;
  also: AlsoSet[];
  findings: Finding[];
  fates?: Record<string, number>;
  lacking?: Record<string, number>;
  notKnown?: number; // laptops of which it is not known whether they support it
  forced?: number;
  reached?: number;
  faults: Fault[];
  locked: boolean;
  onChange: (e: LongEntry | undefined) => void; // may be that of an earlier rendering
}

const sameList = (a: unknown[], b: unknown[]) => a.length === b.length && a.every((x, i) => x === b[i]);

/** A row is made anew only when something that it shows is another: a policy may have a hundred, and somebody types in one of them. */
export const EntryRow = memo(
  Row,
  (a, b) =>
    a.id === b.id &&
    a.policy === b.policy &&
    a.entry.value === b.entry.value &&
    a.entry.lock === b.entry.lock &&
    a.entry.note === b.entry.note &&
    a.definition === b.definition &&
    sameList(a.also, b.also) &&
    sameList(a.findings, b.findings) &&
    a.fates === b.fates &&
    a.lacking === b.lacking &&
    a.notKnown === b.notKnown &&
    a.forced === b.forced &&
    a.reached === b.reached &&
    sameList(a.faults, b.faults) &&
    a.locked === b.locked,
);

function Row({ id, entry, definition: d, also, findings, fates, lacking, notKnown, forced, reached, faults, locked, onChange }: Props) {
  const [help, setHelp] = useState(false);
  const [noting, setNoting] = useState(false);
  // A note belongs to the value that it was written for: with another value it is removed, and with that value it is back.
  const written = useRef({ note: entry.note, value: entry.value });
  const [dropped, setDropped] = useState<string>();
  const writeNote = (note: string | undefined) => {
    written.current = { note, value: entry.value };
    setDropped(undefined);
    onChange({ ...entry, note });
  };
  const setValue = (value: Value) => {
    const { note, value: was } = written.current;
    if (!note || (entry.note !== note && dropped !== note)) return onChange({ ...entry, value });
    const same = JSON.stringify(value) === JSON.stringify(was);
    setDropped(same ? undefined : note);
    onChange({ ...entry, value, note: same ? note : undefined });
  };
  // Help, faults and findings are tied to the control that they are about.
  const row = useRef<HTMLLIElement>(null);
  const told = useId();
  useEffect(() => {
    const control = row.current?.querySelector('[data-control] :is(input, select, textarea, button)');
    control?.setAttribute('aria-describedby', told);
    if (faults.length > 0) control?.setAttribute('aria-invalid', 'true');
    else control?.removeAttribute('aria-invalid');
  });
  const title = d?.title ?? id;
  const lack = Object.values(lacking ?? {}).reduce((a, b) => a + b, 0);
  return (
    // The control comes right after the heading for whoever goes by keyboard; lock, note and removal come after it, and are shown above.
    <li ref={row} className="grid grid-cols-[minmax(0,1fr)_auto] gap-x-3 border-b border-base-300/60 px-4 py-3 last:border-0" id={`setting-${id}`}>
      <h3>
        <button type="button" className="min-h-6 min-w-0 cursor-pointer text-left" aria-expanded={help} onClick={() => setHelp(!help)}>
          <span className="text-sm font-medium hover:underline">{title}</span> <span className="id quiet ml-1">{id}</span>
        </button>
      </h3>
      <div className="col-span-2">
        {d && <p className={`text-[13px] ${help ? 'max-w-prose' : 'quiet line-clamp-1'}`}>{d.help}</p>}
        {help && d && <Facts of={d} />}
        <div className="mt-2" data-control>
          {d ? <Control of={d} value={entry.value} label={title} disabled={locked} onChange={setValue} /> : <ValueText of={entry.value} />}
        </div>
      </div>
      <div className="col-start-2 row-start-1 flex shrink-0 items-center gap-1 self-start">
        <button
          type="button"
          className={`btn btn-ghost btn-xs ${entry.note ? 'text-primary' : ''}`}
          aria-expanded={noting}
          aria-label={`Note on ${title}`}
          onClick={() => setNoting(!noting)}
        >
          <MessageSquareText size={13} aria-hidden /> note
        </button>
        <button
          type="button"
          className={`btn btn-ghost btn-xs ${entry.lock ? 'text-primary' : ''}`}
          disabled={locked}
          aria-pressed={!!entry.lock}
          aria-label={`Lock ${title}`}
          title={
            entry.lock
              ? 'Locked: units and groups closer to the laptop can’t override it or detach from it'
              : 'Not locked: what is set closer to the laptop overrides it'
          }
          onClick={() => onChange({ ...entry, lock: !entry.lock || undefined })}
        >
          {entry.lock ? <Lock size={13} aria-hidden /> : <LockOpen size={13} aria-hidden />} {entry.lock ? 'locked' : 'lock'}
        </button>
        <button
          type="button"
          className="btn btn-ghost btn-xs btn-square"
          disabled={locked}
          aria-label={`Remove ${title}`}
          title="Remove from the policy"
          onClick={() => {
            onChange(undefined);
            announce(`Removed: ${title}`);
            document.querySelector<HTMLElement>('[aria-label="Add a setting"]')?.focus();
          }}
        >
          <Trash2 size={13} aria-hidden />
        </button>
      </div>
      <div className="col-span-2">
        {(noting || entry.note) && (
          <input
            aria-label={`Note on ${title}`}
            className="input input-sm input-ghost mt-1 w-full max-w-xl px-0 text-[13px] italic"
            placeholder="Why this value"
            disabled={locked}
            value={entry.note ?? ''}
            onChange={(e) => writeNote(e.target.value || undefined)}
          />
        )}
        {dropped && (
          <p className="quiet mt-1 text-[13px]" role="status">
            The note ‘{dropped}’ was written for {valueText(written.current.value)}, and is removed.{' '}
            <button type="button" className="link cursor-pointer" onClick={() => writeNote(dropped)}>
              Keep it
            </button>
          </p>
        )}
        {entry.lock && (
          <p className="mt-1 text-[13px] text-primary">Locked: nothing set closer to the laptop overrides it, and no unit or group detaches from it.</p>
        )}
        <div id={told}>
          {faults.map((f, i) => (
            <p key={i} role="alert" className="mt-1 text-[13px] text-error">
              Found {f.found || 'nothing'}, expected {f.expected}
            </p>
          ))}
          {findings.map((f) => (
            <FindingLine key={f.kind + f.check + f.found} of={f} />
          ))}
        </div>
        <div className="mt-1.5 flex flex-wrap items-center gap-x-4 gap-y-1 text-[13px]">
          {fates && (
            <span className="quiet">
              {Object.entries(fates)
                .map(([fate, n]) => `${fateWord(fate)} on ${number(n)}`)
                .join(', ')}
            </span>
          )}
          {!!forced && <span className="text-warning">another value is forced on {count(forced, 'laptop')}</span>}
          {lack > 0 && (
            <span
              className="text-warning"
              title={Object.entries(lacking!)
                .map(([why, n]) => `${n} by ${why}`)
                .join(', ')}
            >
              {number(lack)} of {count(reached ?? lack, 'laptop')} do not support it
            </span>
          )}
          {!!notKnown && (
            <span className="quiet" title="A fact that the laptop needs for this setting is not known; it counts as supported">
              not known on {count(notKnown, 'laptop')} whether it is supported
            </span>
          )}
          <Elsewhere also={also} locked={locked} onDrop={() => onChange(undefined)} />
        </div>
      </div>
    </li>
  );
}

export function Facts({ of: d }: { of: Setting }) {
  return (
    <p className="quiet mt-1 max-w-prose text-[13px]">
      An unmanaged laptop: {d.default === undefined ? 'not known' : valueText(d.default)}. Supported by{' '}
      {d.supports?.length
        ? d.supports
            .map(
              (s) =>
                s.platform +
                (s.from ? ` from ${s.from}` : '') +
                (s.editions?.length ? ` (${s.editions.join(', ')})` : '') +
                (s.when ? ` with ${s.needs || s.when}` : ''),
            )
            .join(', ')
        : 'every platform'}
      .{d.effects?.length ? ` What a person notices: ${d.effects.join(', ')}.` : ''}
    </p>
  );
}

export function FindingLine({ of: f, children }: { of: Finding; children?: React.ReactNode }) {
  return (
    <p role={f.warning ? undefined : 'alert'} className={`mt-1 flex items-start gap-1.5 text-[13px] ${f.warning ? 'text-warning' : 'text-error'}`}>
      <AlertTriangle size={14} aria-hidden className="mt-0.5 shrink-0" />
      <span>
        <span className="sr-only">{f.warning ? 'Worth a look: ' : 'Wrong: '}</span>
        {f.text} {children}
      </span>
    </p>
  );
}

/** Where else a setting is set, and what can be done about it. */
function Elsewhere({ also, locked, onDrop }: { also: AlsoSet[]; locked: boolean; onDrop: () => void }) {
  const near = also.filter((a) => a.relation !== 'apart');
  const conflicts = near.some((a) => a.relation === 'conflicts');
  if (also.length === 0) return null;
  const word = near.length
    ? `also set in ${near.length === 1 ? near[0]!.policy : `${near.length} others`} for these laptops`
    : `set in ${also.length === 1 ? also[0]!.policy : `${also.length} others`} for other laptops`;
  return (
    <Fold summary={word} summaryClass={`cursor-pointer ${conflicts ? 'font-medium text-warning' : near.length ? 'text-info' : 'quiet'}`}>
      <ul className="mt-1 flex flex-col gap-0.5">
        {also.map((a) => (
          <li key={a.policy} className="flex flex-wrap gap-x-2">
            <Link to={`/policies/${a.policy}`} className="link">
              {a.title || a.policy}
            </Link>
            <ValueText of={a.value} />
            <span className={a.relation === 'conflicts' ? 'text-warning' : 'quiet'}>
              {a.locked ? 'locked; ' : ''}
              {a.relation === 'apart' ? `on ${count(a.devices, 'laptop')}, none of these` : `${meetingText(a)} of these`}
            </span>
            {a.relation === 'conflicts' && (
              <Link className="link text-warning" to={`/conflicts?setting=${a.setting}`}>
                settle
              </Link>
            )}
            {!locked && (a.relation === 'repeats' || a.relation === 'overrides') && (
              <button type="button" className="link cursor-pointer" onClick={onDrop}>
                remove it here
              </button>
            )}
          </li>
        ))}
      </ul>
    </Fold>
  );
}
