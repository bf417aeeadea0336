// Verifying a laptop: it reads its settings again, and what it has is put beside what is wanted.
import { useState } from 'react';
import { api, got, type Delivery, type DevicePage, type Setting } from '../api/client';
import { useMay } from '../api/queries';
import { useWrite } from '../api/writes';
import { announce } from '../ui/announce';
import { Failed, Heads, Sheet } from '../ui/parts';
import { count, Status, Time, ValueText } from '../ui/words';

/** What a laptop had when it was asked to read its settings again. */
export interface Asked {
  seen: string; // when it had checked in last
  before: Map<string, Delivery>;
}

export function VerifyButton({ p, onAsked }: { p: DevicePage; onAsked: (a: Asked) => void }) {
  const may = useMay('devices');
  const [deaf, setDeaf] = useState(false);
  const id = p.device.id;
  const ask = useWrite(() => got(api.POST('/api/v1/devices/{id}/check-in', { params: { path: { id } } })), {
    done: ({ told }) => {
      setDeaf(!told);
      announce(told ? `${id} was told to check in.` : `${id} holds no connection and cannot be told. It checks in by itself, as it usually does.`);
      if (told) onAsked({ seen: p.device.last_seen ?? '', before: new Map(p.deliveries.map((d) => [d.setting, d])) });
    },
  });
  if (!may) return null;
  return (
    <>
      {deaf && <span className="quiet text-[13px]">not connected: it checks in by itself</span>}
      <button type="button" className="btn btn-sm" disabled={ask.isPending} onClick={() => ask.mutate()}>
        Check in and verify
      </button>
      <Failed error={ask.error} />
    </>
  );
}

/** Why a setting is not as it is wanted. */
function difference(d: Delivery): string {
  if (d.status === 'drifted') return 'altered on the laptop, and only to be reported';
  if (d.status === 'unsupported') return `the laptop does not support it${d.reason ? ` (${d.reason})` : ''}`;
  if (d.status === 'conflict') return 'policies conflict: nothing is sent';
  if (d.status === 'pending') return 'sent at the next check-in';
  return d.reason ?? '';
}

/** What the laptop said when it was asked, those first that are not as they are wanted. */
export function Verified({ p, asked, dictionary }: { p: DevicePage; asked: Asked; dictionary: Map<string, Setting> }) {
  if ((p.device.last_seen ?? '') <= asked.seen)
    return (
      <p role="status" className="rounded border border-base-300 px-4 py-2 text-sm">
        {p.device.id} was told. It reads its settings again …
      </p>
    );
  const is = (d: Delivery) => d.status === 'applied';
  const list = [...p.deliveries].sort((a, b) => Number(is(a)) - Number(is(b)));
  const right = list.filter(is).length;
  return (
    <Sheet
      title={
        right === list.length ? `All ${count(list.length, 'setting')} are in force` : `${count(list.length - right, 'setting')} of ${list.length} not as wanted`
      }
      aside={
        <>
          read from the laptop <Time at={p.device.last_seen} />
        </>
      }
    >
      <div className="max-h-96 overflow-auto" tabIndex={0} aria-label="What the laptop has">
        <table className="table table-sm">
          <Heads of={['Setting', 'Wanted', 'Reported before', 'On the laptop now', 'State']} />
          <tbody>
            {list.map((d) => (
              <tr key={d.setting}>
                <td title={d.setting}>{dictionary.get(d.setting)?.title ?? d.setting}</td>
                <td>{d.wanted === undefined ? <span className="quiet">left to the laptop</span> : <ValueText of={d.wanted} />}</td>
                <Reported of={asked.before.get(d.setting)} />
                <Reported of={d} />
                <td>
                  <Status of={d.status} />
                  {!is(d) && <div className="quiet text-[13px]">{difference(d)}</div>}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </Sheet>
  );
}

function Reported({ of }: { of?: Delivery }) {
  return <td>{of?.reported === undefined ? <span className="quiet">nothing</span> : <ValueText of={of.reported} />}</td>;
}
