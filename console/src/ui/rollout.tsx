// What rollouts are shown with: the states of laptops, the bar of a wave, the course over time.
import type { Rollout, RolloutWave } from '../api/client';
import { count, number } from './words';

/** The states of laptops in a rollout, in the order in which they are shown. */
export const laptopStates = [
  { state: 'taken', word: 'taken', tone: 'bg-success', means: 'has the change in force' },
  { state: 'failed', word: 'failed', tone: 'bg-error', means: 'refused a setting, or reports another value' },
  { state: 'lost', word: 'lost', tone: 'bg-warning', means: 'took the change, and was not heard for too long since' },
  { state: 'due', word: 'due', tone: 'bg-info', means: 'gets the change at its next check-in' },
  { state: 'silent', word: 'silent', tone: 'bg-neutral/60', means: 'is due, and was not heard for long' },
  { state: 'returned', word: 'returned', tone: 'bg-secondary/60', means: 'has again what it had before' },
  { state: 'excused', word: 'excused', tone: 'bg-neutral/30', means: 'need not take the change, somebody said' },
  { state: 'waiting', word: 'waiting', tone: 'bg-base-300', means: 'is in a wave that is not open' },
] as const;

export type LaptopState = (typeof laptopStates)[number]['state'];

/** Laptops by state, as one bar. The numbers stand beside it: the bar says nothing that they do not. */
export function StateBar({ counts, laptops, height = 'h-4' }: { counts: Record<string, number>; laptops: number; height?: string }) {
  return (
    <div className={`flex ${height} w-full gap-px overflow-hidden rounded bg-base-200`} aria-hidden>
      {laptopStates.map(({ state, tone }) =>
        counts[state] ? <div key={state} className={tone} style={{ width: `${(100 * counts[state]) / Math.max(1, laptops)}%` }} /> : null,
      )}
    </div>
  );
}

/** Laptops by state, in numbers. */
export function StateCounts({ counts, onPick }: { counts: Record<string, number>; onPick?: (state: LaptopState) => void }) {
  return (
    <span className="flex flex-wrap gap-x-4 gap-y-0.5 text-[13px]">
      {laptopStates.map(({ state, word, tone, means }) => {
        const n = counts[state] ?? 0;
        if (n === 0) return null;
        const inner = (
          <>
            <span className={`mr-1.5 inline-block h-2.5 w-2.5 rounded-sm ${tone}`} aria-hidden />
            <strong className="tabular-nums">{number(n)}</strong> {word}
          </>
        );
        return onPick ? (
          <button key={state} type="button" title={means} className="cursor-pointer hover:underline" onClick={() => onPick(state)}>
            {inner}
          </button>
        ) : (
          <span key={state} title={means} className="whitespace-nowrap">
            {inner}
          </span>
        );
      })}
    </span>
  );
}

/** The state of a rollout in words. */
export function progressWord(r: Pick<Rollout, 'progress' | 'reason' | 'ready'>): { word: string; tone: string } {
  if (r.progress === 'stopped') return { word: r.reason === 'lost' ? 'stopped: too many lost' : 'stopped: too many failed', tone: 'text-error' };
  if (r.ready) return { word: 'the next wave waits for a person', tone: 'text-warning' };
  const words: Record<Rollout['progress'], { word: string; tone: string }> = {
    waiting: { word: 'waits for another rollout', tone: 'text-info' },
    running: { word: 'running', tone: 'text-info' },
    paused: { word: 'paused', tone: 'text-warning' },
    stopped: { word: 'stopped', tone: 'text-error' },
    finished: { word: 'finished', tone: 'text-success' },
    'taking-back': { word: 'being taken back', tone: 'text-warning' },
    'taken-back': { word: 'taken back', tone: 'quiet' },
  };
  return words[r.progress];
}

export function Progress({ of }: { of: Pick<Rollout, 'progress' | 'reason' | 'ready'> }) {
  const { word, tone } = progressWord(of);
  return <span className={`font-medium ${tone}`}>{word}</span>;
}

/** A length of time as people say it: the largest unit, and one decimal where it matters. */
export function lengthOf(seconds: number): string {
  const units: [number, string][] = [
    [86400, 'day'],
    [3600, 'hour'],
    [60, 'minute'],
  ];
  for (const [size, word] of units) {
    if (seconds >= size) {
      const n = Math.round((10 * seconds) / size) / 10;
      return count(n < 10 ? n : Math.round(n), word);
    }
  }
  return count(Math.round(seconds), 'second');
}

/** Which laptops a wave is for, in words. */
export function waveWord(w: Pick<RolloutWave, 'who' | 'share' | 'rest'>, title: (target: string) => string): string {
  if (w.share) return `${w.share} % of all laptops of the change, by platform and unit`;
  if (w.who) {
    const names = (w.who.include ?? []).map(title);
    const without = (w.who.exclude ?? []).map(title);
    const text = names.length > 0 ? names.join(', ') : 'an audience';
    return text + (without.length > 0 ? `, without ${without.join(', ')}` : '') + (w.who.when ? `, where ${w.who.when}` : '');
  }
  return 'all that are left';
}

export interface CoursePoint {
  at: string;
  taken: number;
  failed: number;
}

const width = 640;
const height = 150;
const left = 44;
const bottom = 22;

/** How many laptops had taken a change over time, with the moments at which waves opened. The table of the same stands beside it. */
export function Course({
  points,
  laptops,
  marks,
  from,
  to,
}: {
  points: CoursePoint[];
  laptops: number;
  marks: { at: string; word: string }[];
  from: string;
  to: string;
}) {
  const start = Date.parse(from);
  const span = Math.max(600_000, Date.parse(to) - start); // points are of whole minutes
  const x = (at: string) => left + ((width - left - 8) * Math.max(0, Date.parse(at) - start)) / span;
  const y = (n: number) => 10 + (height - bottom - 10) * (1 - n / Math.max(1, laptops));
  const line = (of: 'taken' | 'failed') => {
    let d = `M${left} ${y(0)}`;
    for (const p of points) d += `H${x(p.at).toFixed(1)}V${y(p[of]).toFixed(1)}`;
    return `${d}H${x(to).toFixed(1)}`;
  };
  const day = span > 36 * 3600_000;
  const written = (at: number) =>
    new Date(at).toLocaleString('en-GB', day ? { weekday: 'short', day: 'numeric', month: 'short' } : { hour: '2-digit', minute: '2-digit' });
  return (
    <svg viewBox={`0 0 ${width} ${height}`} className="w-full" role="img" aria-label="Laptops that had taken the change, over time">
      {[0, 0.5, 1].map((share) => (
        <g key={share}>
          <line x1={left} x2={width - 8} y1={y(share * laptops)} y2={y(share * laptops)} className="stroke-base-300" />
          <text x={left - 6} y={y(share * laptops) + 4} textAnchor="end" className="fill-current text-[11px] tabular-nums">
            {number(Math.round(share * laptops))}
          </text>
        </g>
      ))}
      {marks.map((m) => (
        <g key={m.at + m.word}>
          <line x1={x(m.at)} x2={x(m.at)} y1={6} y2={height - bottom} className="stroke-base-content/40" strokeDasharray="3 3" />
          <text x={Math.min(x(m.at) + 4, width - 80)} y={16} className="fill-current text-[11px]">
            {m.word}
          </text>
        </g>
      ))}
      <path d={line('taken')} fill="none" className="stroke-success" strokeWidth={2} />
      {points.some((p) => p.failed > 0) && <path d={line('failed')} fill="none" className="stroke-error" strokeWidth={2} strokeDasharray="5 3" />}
      {[0, 0.5, 1].map((share) => (
        <text
          key={share}
          x={left + (width - left - 8) * share}
          y={height - 6}
          textAnchor={share === 0 ? 'start' : share === 1 ? 'end' : 'middle'}
          className="fill-current text-[11px]"
        >
          {written(start + share * span)}
        </text>
      ))}
    </svg>
  );
}
