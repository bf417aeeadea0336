// What a change does: numbers, each value before and after, clashes and problems that come and go.
import { ArrowRight, TrendingDown } from 'lucide-react';
import type { Impact } from '../api/client';
import { Faults } from './parts';
import { DeviceLinks } from './reach';
import { count, number, Status, ValueText } from './words';
import type { Value } from '../api/client';

type State = { status?: string; value?: Value };

function StateText({ of, old = false }: { of: State; old?: boolean }) {
  if (!of.status) return <span className="quiet">not set</span>;
  if (of.status !== 'set') return <Status of={of.status} />;
  return old ? (
    <s className="quiet">
      <ValueText of={of.value} />
    </s>
  ) : (
    <ValueText of={of.value} className="font-semibold" />
  );
}

/** Old value struck and muted, new value beside it; weaker is said by word and icon. */
export function BeforeAfter({ from, to, weaker = false }: { from: State; to: State; weaker?: boolean }) {
  return (
    <span className="inline-flex flex-wrap items-center gap-2">
      <StateText of={from} old />
      <ArrowRight size={13} aria-label="becomes" className="quiet shrink-0" />
      <StateText of={to} />
      {weaker && (
        <span className="inline-flex items-center gap-1 text-[13px] font-medium text-warning">
          <TrendingDown size={14} aria-hidden /> weaker
        </span>
      )}
    </span>
  );
}

const effects = [
  ['weaker', 'get a weaker value'],
  ['restart', 'need a restart'],
  ['prompt', 'are asked something'],
  ['irreversible', 'can’t be undone'],
  ['lockout', 'may be locked out'],
] as const;

export function ImpactSummary({ of }: { of: Impact }) {
  return (
    <p className="flex flex-wrap items-baseline gap-x-3 gap-y-1 text-sm">
      <span>
        <strong className="text-2xl tabular-nums">{number(of.devices)}</strong> of {count(of.estate, 'laptop')} get something else
      </span>
      {effects.map(([key, word]) => (of[key] > 0 ? <span key={key} className="text-warning">{`${number(of[key])} ${word}`}</span> : null))}
    </p>
  );
}

export function ImpactView({ of, most = 200 }: { of: Impact; most?: number }) {
  if (of.faults?.length)
    return (
      <div role="alert" className="text-sm text-error">
        <p className="font-medium">This can’t be published as it is:</p>
        <Faults list={of.faults} />
      </div>
    );
  return (
    <div className="flex flex-col gap-4">
      <ImpactSummary of={of} />
      <Findings of={of} />
      {of.transitions.length > 0 && (
        <table className="table table-sm">
          <thead>
            <tr>
              <th>Setting</th>
              <th>Before → after</th>
              <th className="text-right">Laptops</th>
            </tr>
          </thead>
          <tbody>
            {of.transitions.slice(0, most).map((t, i) => (
              <tr key={i}>
                <td className="align-top">
                  <div>{t.title || t.setting}</div>
                  <div className="id quiet">{t.setting}</div>
                </td>
                <td className="align-top">
                  <BeforeAfter from={t.from as State} to={t.to as State} weaker={t.weaker} />
                  {t.effects.length > 0 && <div className="quiet mt-0.5 text-[13px]">{t.effects.join(', ')}</div>}
                </td>
                <td className="w-56 text-right align-top">
                  <details>
                    <summary className="cursor-pointer tabular-nums">{number(t.device_count)}</summary>
                    <div className="text-left">
                      <DeviceLinks ids={t.devices} more={t.device_count - t.devices.length} />
                    </div>
                  </details>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {of.transitions.length > most && <p className="quiet text-sm">and {of.transitions.length - most} more kinds of alteration</p>}
    </div>
  );
}

export function Findings({ of }: { of: Impact }) {
  const list = [
    ...of.conflicts_gained.map((c) => ({
      tone: 'text-warning',
      text: `Clash gained: ${c.title || c.setting} between ${c.policies.join(' and ')}`,
      n: c.device_count,
    })),
    ...of.problems_gained.map((p) => ({ tone: 'text-warning', text: `Problem gained: ${p.message}`, n: p.device_count })),
    ...of.conflicts_cleared.map((c) => ({
      tone: 'text-success',
      text: `Clash cleared: ${c.title || c.setting} between ${c.policies.join(' and ')}`,
      n: c.device_count,
    })),
    ...of.problems_cleared.map((p) => ({ tone: 'text-success', text: `Problem cleared: ${p.message}`, n: p.device_count })),
  ];
  if (!list.length) return null;
  return (
    <ul className="flex flex-col gap-1 text-sm">
      {list.map((f, i) => (
        <li key={i} className={f.tone}>
          {f.text}, on {count(f.n, 'laptop')}
        </li>
      ))}
    </ul>
  );
}
