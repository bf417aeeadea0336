// How many laptops comply, as a bar with its number.
import type { ComplianceCount } from '../../api/client';
import { number } from '../../ui/words';

/** The share that complies, with the line below which somebody is told. */
export function ShareBar({ of, line, below = false }: { of: ComplianceCount; line?: number; below?: boolean }) {
  const share = (n: number) => `${(100 * n) / Math.max(1, of.laptops)}%`;
  return (
    <div className="flex items-center gap-2">
      <div className="relative h-2.5 flex-1 overflow-hidden rounded bg-base-300" aria-hidden>
        <div className="absolute inset-y-0 left-0 bg-success" style={{ width: share(of.complies) }} />
        <div className="absolute inset-y-0 bg-error" style={{ left: share(of.complies), width: share(of.differs) }} />
        {line !== undefined && <div className="absolute inset-y-0 w-0.5 bg-base-content" style={{ left: `${line}%` }} />}
      </div>
      <span className={`${line === undefined ? 'w-16' : 'w-28'} whitespace-nowrap text-[13px] tabular-nums ${below ? 'font-semibold text-error' : ''}`}>
        {number(Math.round(10 * of.percent) / 10)} %{below && ' – below'}
      </span>
    </div>
  );
}
