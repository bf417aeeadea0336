// A share, day by day.
import { number } from './words';

/** A share from 0 to 100 as a line, with its first and last number. The numbers stand in its description, too. */
export function Course({ days }: { days: { day: string; percent: number }[] }) {
  const [width, height] = [640, 60];
  const x = (i: number) => (width * i) / Math.max(1, days.length - 1);
  const y = (percent: number) => height - 4 - ((height - 8) * percent) / 100;
  const [first, last] = [days[0], days[days.length - 1]];
  if (!first || !last) return null;
  const word = (d: { day: string; percent: number }) => `${d.day}: ${number(Math.round(10 * d.percent) / 10)} %`;
  return (
    <figure>
      <svg viewBox={`0 0 ${width} ${height}`} className="h-16 w-full" preserveAspectRatio="none" role="img" aria-label={`${word(first)}, ${word(last)}`}>
        <line x1={0} x2={width} y1={y(0)} y2={y(0)} className="stroke-base-300" />
        <line x1={0} x2={width} y1={y(100)} y2={y(100)} className="stroke-base-300" />
        <polyline
          fill="none"
          className="stroke-success"
          strokeWidth={2}
          vectorEffect="non-scaling-stroke"
          points={days.map((d, i) => `${x(i)},${y(d.percent)}`).join(' ')}
        />
      </svg>
      <figcaption className="quiet flex justify-between text-[13px]">
        <span>{word(first)}</span>
        <span>{word(last)}</span>
      </figcaption>
    </figure>
  );
}
