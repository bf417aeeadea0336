// The disks of one laptop, and the history of their keys.
import { useQuery } from '@tanstack/react-query';
import { Link } from 'react-router';
import { api, got } from '../../api/client';
import { useWrite } from '../../api/writes';
import { Failed, Sheet } from '../../ui/parts';
import { Time } from '../../ui/words';
import { recoveryKey, spaced, startupWords, stateWords } from './words';

export function Disks({ device }: { device: string }) {
  const historyKey = [...recoveryKey, 'history', device];
  const { data: h, error } = useQuery({
    queryKey: historyKey,
    queryFn: () => got(api.GET('/api/v1/devices/{id}/recovery-keys', { params: { path: { id: device } } })),
  });
  const renew = useWrite(() => got(api.POST('/api/v1/devices/{id}/recovery-keys/renewal', { params: { path: { id: device } }, body: {} })), {
    alters: [historyKey],
  });
  if (!h) return <Failed error={error} />;
  if (!h.volumes.length && !h.keys.length) return null;
  const current = h.keys.filter((k) => k.state === 'current');
  return (
    <Sheet title="Disks and recovery keys" aside={h.reported_at && <Time at={h.reported_at} />}>
      <ul className="py-1.5 text-sm">
        {h.volumes.map((v) => (
          <li key={v.id} className="px-4 py-1">
            <span className="first-letter:uppercase inline-block">{v.name}</span>: {stateWords[v.state]}
            {v.method && <span className="quiet"> · {v.method}</span>}
            {v.startup.length > 0 && <span className="quiet"> · opens also with {v.startup.map((s) => startupWords[s] ?? s).join(', ')}</span>}
            {(v.reason || v.weak) && <div className="text-[13px] text-warning">{v.reason || v.weak}</div>}
          </li>
        ))}
        {h.keys.slice(0, 8).map((k) => (
          <li key={k.stored_at + k.volume} className="flex justify-between gap-3 px-4 py-1">
            <span>
              {k.state === 'current' ? (
                'Key in force'
              ) : k.state === 'stored' ? (
                'Key stored, not in force yet'
              ) : (
                <>Key {spaced(k.identifier ?? '') || 'of before'}</>
              )}
              {h.volumes.length + h.keys.length > 2 && <span className="quiet"> · {k.name}</span>}
              {k.used_at && (
                <span className="quiet">
                  {' '}
                  · shown to {k.used_by} <Time at={k.used_at} />
                </span>
              )}
              {k.renewal_at && <span className="text-[13px] text-warning"> · another one is asked for</span>}
            </span>
            <span className="quiet shrink-0 text-[13px]">
              {k.until ? (
                <>
                  until <Time at={k.until} />
                </>
              ) : (
                <Time at={k.since ?? k.stored_at} />
              )}
            </span>
          </li>
        ))}
      </ul>
      {h.may_see && current.length > 0 && (
        <div className="flex flex-wrap gap-2 border-t border-base-300 px-4 py-2.5">
          <Link className="btn btn-xs" to={`/keys?device=${encodeURIComponent(device)}`}>
            See its key …
          </Link>
          <button
            type="button"
            className="btn btn-ghost btn-xs"
            disabled={renew.isPending || current.every((k) => k.renewal_at)}
            onClick={() => renew.mutate()}
          >
            Ask for a new key
          </button>
          <Failed error={renew.error} />
        </div>
      )}
    </Sheet>
  );
}
