// The explanation: why a laptop has a value. Levels go from the organisation down to the laptop; the one that decides is marked
// out, the others say what beat them; policies that do not apply are folded below.
import { Lock } from 'lucide-react';
import { Link } from 'react-router';
import type { Candidate, NotApplying, SettingAnswer } from '../api/client';
import { fateWord, howWord, ValueText } from './words';

const rank = (level: string) => (level === 'group' ? 1000 : level === 'individual' ? 1001 : Number(level.slice(5)));
const levelWord = (level: string, units: string[]) =>
  level === 'group' ? 'group' : level === 'individual' ? 'this laptop or person' : (units[rank(level)] ?? level);

/** What became of a candidate, and what beat it. */
function because(c: Candidate): string {
  const by = (c.beaten_by ?? []).map((policy) => `‘${policy}’`).join(', ');
  switch (c.fate) {
    case 'outer':
      return `overridden: set closer by ${by}`;
    case 'lower-priority':
      return `lower priority than ${by}`;
    case 'weaker':
      return `weaker than ${by}`;
    case 'locked-out':
      return `locked further out by ${by}`;
    case 'ruled-out':
      return `a ruling prefers ${by}`;
    case 'excepted':
      return 'overridden by the exception';
    case 'detached':
      return 'not inherited: this kind is detached closer to the laptop';
    case 'enforced-elsewhere':
      return `overridden by ${by}`;
    case 'clashing':
      return `disagrees with ${by}`;
  }
  return fateWord(c.fate);
}

export function Why({ of, units, notApplying }: { of: SettingAnswer; units: string[]; notApplying: NotApplying[] }) {
  const rungs = Map.groupBy(
    [...of.candidates].sort((a, b) => rank(a.level) - rank(b.level) || b.priority - a.priority || a.policy.localeCompare(b.policy)),
    (c) => c.level,
  );
  return (
    <div className="flex flex-col gap-3 text-sm">
      <p>
        {of.status === 'set' && (
          <>
            <ValueText of={of.value} className="font-semibold" /> — {howWord(of.how)}
            {of.from?.length ? <>, from {of.from.join(', ')}</> : null}.
            {of.replaced && (
              <>
                {' '}
                It replaces <ValueText of={of.replaced.value} /> ({howWord(of.replaced.how)} from {of.replaced.from.join(', ')}).
              </>
            )}
          </>
        )}
        {of.status === 'conflict' && <>No value: {of.from?.join(' and ')} disagree. Nothing is sent, and the laptop keeps what it has.</>}
        {of.status === 'unset' && <>Left to the laptop by exception {of.from?.join(', ')}.</>}
        {of.status === 'unsupported' && <>This laptop does not have the setting: its {of.reason} does not fit.</>}
      </p>
      {rungs.size > 0 && (
        <ol className="flex flex-col" aria-label="From the organisation down to the laptop">
          {[...rungs].map(([level, list]) => (
            <li key={level} className="grid grid-cols-[9.5rem_1fr] gap-3 border-l-2 border-base-300 py-1.5 pl-3">
              <span className="quiet pt-1 text-[13px]">{levelWord(level, units)}</span>
              <ul className="flex flex-col gap-1">
                {list.map((c) => {
                  const wins = c.fate === 'won';
                  return (
                    <li
                      key={c.policy}
                      className={`grid grid-cols-[minmax(8rem,1.3fr)_minmax(6rem,1fr)_2fr] items-baseline gap-3 rounded px-2 py-1 ${wins ? 'bg-primary/10 ring-1 ring-primary/40' : c.fate === 'clashing' ? 'bg-warning/10 ring-1 ring-warning/40' : ''}`}
                    >
                      <Link to={`/policies/${c.policy}`} className="id link-hover link">
                        {c.policy}
                      </Link>
                      <span>
                        <ValueText of={c.value} className={wins ? 'font-semibold' : ''} />
                        {c.locked && (
                          <span className="ml-1 inline-flex items-center gap-0.5 text-[12px]">
                            <Lock size={11} aria-hidden /> locked
                          </span>
                        )}
                      </span>
                      <span className={wins ? 'font-medium text-primary' : c.fate === 'clashing' ? 'text-warning' : 'quiet'}>
                        {because(c)}
                        <span className="quiet"> · priority {c.priority}</span>
                      </span>
                    </li>
                  );
                })}
              </ul>
            </li>
          ))}
        </ol>
      )}
      {of.how === 'exception' && <p className="quiet">Exception {of.from?.join(', ')} decides, whatever the policies say.</p>}
      <NotApplyingList list={notApplying} />
    </div>
  );
}

const reasons: Record<string, string> = {
  'not-active': 'not active',
  platform: 'for other platforms',
  outside: 'never reaches a laptop outside of its unit',
  'not-included': 'does not include this laptop or person',
  excluded: 'left out by name',
  condition: 'its condition is not true',
  'not-taken': 'offered, and nobody took it on this laptop',
};

export function NotApplyingList({ list }: { list: NotApplying[] }) {
  if (!list.length) return null;
  return (
    <details className="group">
      <summary className="quiet cursor-pointer text-[13px]">{list.length} policies do not apply to this laptop</summary>
      <ul className="mt-1 grid gap-x-6 gap-y-0.5 sm:grid-cols-2">
        {list.map((n) => (
          <li key={n.policy} className="flex gap-2 text-[13px]">
            <Link to={`/policies/${n.policy}`} className="id link-hover link shrink-0">
              {n.policy}
            </Link>
            <span className="quiet">
              {reasons[n.reason] ?? n.reason}
              {n.targets?.length ? ` (${n.targets.join(', ')})` : ''}
              {n.error ? `: ${n.error}` : ''}
            </span>
          </li>
        ))}
      </ul>
    </details>
  );
}
