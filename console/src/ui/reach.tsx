// The reach bar: one line that splits the estate by what an audience does to it.
import { Link } from 'react-router';
import type { Reach } from '../api/client';
import { Fold } from './parts';
import { count, number } from './words';

const parts = [
  { key: 'gets', word: 'get it', tone: 'bg-primary' },
  { key: 'unsupported', word: 'get it, but support none of it', tone: 'bg-primary/45' },
  { key: 'excluded', word: 'left out by name', tone: 'bg-warning' },
  { key: 'condition', word: 'condition not true', tone: 'bg-info/70' },
  { key: 'not_taken', word: 'have not taken it', tone: 'bg-accent/50' },
  { key: 'platform', word: 'other platform', tone: 'bg-secondary/50' },
  { key: 'outside', word: 'outside of its unit', tone: 'bg-neutral/40' },
  { key: 'not_included', word: 'not included', tone: 'bg-base-300' },
] as const;

export function ReachBar({ of }: { of: Reach }) {
  const total = of.gets + of.excluded + of.condition + of.not_taken + of.platform + of.outside + of.not_included;
  const size = (key: (typeof parts)[number]['key']) => (key === 'gets' ? of.gets - of.unsupported : of[key]);
  return (
    <div className="flex flex-col gap-2 text-sm">
      <p className="flex flex-wrap items-baseline gap-x-2">
        <span className="text-2xl font-semibold tabular-nums">{number(of.gets)}</span>
        <span>
          of {count(total, 'laptop')}, {count(of.people, 'person', 'people')}
        </span>
        {of.everyone && <strong className="rounded bg-warning px-1.5 py-0.5 text-[13px] text-warning-content">everyone</strong>}
      </p>
      <div className="flex h-2.5 gap-px overflow-hidden rounded" aria-hidden>
        {parts.map((p) => (size(p.key) > 0 ? <div key={p.key} className={p.tone} style={{ width: `${(100 * size(p.key)) / Math.max(1, total)}%` }} /> : null))}
      </div>
      <ul className="flex flex-wrap gap-x-4 gap-y-1 text-[13px]">
        {parts.map((p) =>
          size(p.key) > 0 ? (
            <li key={p.key} className="flex items-center gap-1.5">
              <span className={`h-2.5 w-2.5 rounded-sm ${p.tone}`} aria-hidden />
              {number(size(p.key))} {p.word}
            </li>
          ) : null,
        )}
      </ul>
      {of.sample.length > 0 && (
        <Fold summary="Which laptops" summaryClass="quiet cursor-pointer text-[13px]">
          <DeviceLinks ids={of.sample} more={of.gets - of.sample.length} />
        </Fold>
      )}
    </div>
  );
}

export function DeviceLinks({ ids, more = 0 }: { ids: string[]; more?: number }) {
  return (
    <p className="mt-1 flex flex-wrap gap-x-2.5 leading-6">
      {ids.map((id) => (
        <Link key={id} to={`/devices/${id}`} className="id link-hover link">
          {id}
        </Link>
      ))}
      {more > 0 && <span className="quiet text-[13px]">and {number(more)} more</span>}
    </p>
  );
}
