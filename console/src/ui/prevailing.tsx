// What a setting is on most laptops of a place, and on how many it is something else.
import type { Prevailing } from '../api/client';
import { number, Status, ValueText } from './words';

export function StateWord({ of, strong = false }: { of: Prevailing; strong?: boolean }) {
  const { status, value } = of.state;
  if (!status) return <span className={strong ? 'font-semibold' : 'quiet'}>not set</span>;
  if (status !== 'set')
    return (
      <span className={strong ? 'font-semibold' : ''}>
        <Status of={status} title={of.policies?.join(' and ')} />
      </span>
    );
  return <ValueText of={value} className={strong ? 'font-semibold' : ''} />;
}

/** The state with a note of the laptops that have it otherwise. */
export function Prevails({ of, strong = false, short = false }: { of: Prevailing; strong?: boolean; short?: boolean }) {
  if (of.devices + of.others === 0) return <span className="quiet">no laptops</span>;
  return (
    <span>
      <StateWord of={of} strong={strong} />
      {of.others > 0 && (
        <span className="quiet whitespace-nowrap text-[13px]" title={`${number(of.others)} of ${number(of.devices + of.others)} have it otherwise`}>
          {' '}
          +{number(of.others)}
          {short ? <span className="sr-only"> otherwise</span> : ' otherwise'}
        </span>
      )}
    </span>
  );
}
