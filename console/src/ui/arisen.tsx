// Conflicts that arose without an edit: what they are about, since when, and what altered about the laptops.
import { Link } from 'react-router';
import type { ConflictEvent } from '../api/client';
import { count, Time } from './words';

const words: Record<string, (from?: string, to?: string) => string> = {
  arrived: () => 'came into the estate',
  moved: (from, to) => `moved from ${from} to ${to}`,
  handed: (from, to) => (to ? (from ? `went from ${from} to ${to}` : `went to ${to}`) : `is nobody’s any more`),
  joined: (_, to) => `is now in ${to}`,
  parted: (from) => `is no longer in ${from}`,
  updated: (from, to) => `is on ${to} now, was on ${from}`,
};

/** What altered about a laptop, in words; empty where it stayed as it was. */
export const causeWords = (d: ConflictEvent['sample'][number]) => d.causes.map((c) => words[c.kind]?.(c.from, c.to) ?? c.kind).join(', ');

export function Arisen({ of }: { of: ConflictEvent }) {
  const first = of.sample.find((d) => d.causes.length > 0);
  return (
    <li className="flex flex-col gap-0.5 px-4 py-1.5 text-sm">
      <Link to={`/conflicts?setting=${of.setting}`} className="flex items-baseline justify-between gap-4 hover:underline">
        <span>
          {of.name || of.setting}
          <span className="quiet"> — {of.policies.join(' or ')}</span>
        </span>
        <span className="quiet shrink-0 text-[13px]">{count(of.devices, 'laptop')}</span>
      </Link>
      <span className="quiet text-[13px]">
        <Time at={of.at} />, {of.title}
        {first && (
          <>
            :{' '}
            <Link className="id link link-hover" to={`/devices/${first.id}`}>
              {first.id}
            </Link>{' '}
            {causeWords(first)}
          </>
        )}
      </span>
    </li>
  );
}
