// Keeps what is shown up to date: the service says what altered, and it is asked for again.
import { keys, queries, writes } from './queries';
import { useEffect } from 'react';
import { type Change } from './client';
import { watchEvents } from './events';

/** Asks again for a change that is at a version now, unless this browser made it so and knows it. */
async function changeAltered(id: string | undefined, version: number | undefined) {
  if (id) await writes.get(id);
  const known = id && version ? queries.getQueryData<Change>([...keys.changes, id]) : undefined;
  if (known && known.state === 'open' && known.version >= (version ?? 0)) void queries.invalidateQueries({ queryKey: [...keys.changes, 'list'] });
  else void queries.invalidateQueries({ queryKey: keys.changes });
}

/** Asks again for what has changed. Laptops check in all the time: their news is gathered. */
export function useLiveUpdates(on: boolean) {
  useEffect(() => {
    if (!on) return;
    let waiting: ReturnType<typeof setTimeout> | undefined;
    let rolling: ReturnType<typeof setTimeout> | undefined;
    const stop = watchEvents(({ topic, id, version }) => {
      if (topic === 'device') {
        waiting ??= setTimeout(() => {
          waiting = undefined;
          void queries.invalidateQueries({ queryKey: keys.devices });
        }, 2000);
        return;
      }
      if (topic === 'rollout') {
        rolling ??= setTimeout(() => {
          rolling = undefined;
          void queries.invalidateQueries({ queryKey: keys.rollouts });
          void queries.invalidateQueries({ queryKey: [...keys.changes, 'list'] });
        }, 500);
        return;
      }
      if (topic === 'key') {
        void queries.invalidateQueries({ queryKey: [...keys.devices, 'recovery', 'requests'] });
        return;
      }
      if (topic === 'source') {
        void queries.invalidateQueries({ queryKey: keys.sources });
        return;
      }
      if (topic === 'change') void changeAltered(id, version);
      if (topic === 'estate') {
        void queries.invalidateQueries({ queryKey: keys.changes });
        void queries.invalidateQueries({ queryKey: keys.estate });
        void queries.invalidateQueries({ queryKey: keys.devices });
        void queries.invalidateQueries({ queryKey: keys.sources });
        void queries.invalidateQueries({ queryKey: keys.rollouts });
      }
    });
    return () => {
      clearTimeout(waiting);
      clearTimeout(rolling);
      stop();
    };
  }, [on]);
}
