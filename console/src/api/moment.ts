// The moment that the pages show: now, or one that has passed. What has a past is then asked of the service with `at`, and nothing can
// be altered.
import { useSyncExternalStore } from 'react';
import type { paths } from './schema';

/** The questions that can be asked of a moment that has passed, as the API's description has them. */
type WithPast<M extends 'get' | 'post'> = {
  [P in keyof paths]: paths[P] extends Record<M, { parameters: { query?: { at?: string } } }>
    ? [NonNullable<paths[P][M]['parameters']['query']>] extends [never]
      ? never
      : 'at' extends keyof NonNullable<paths[P][M]['parameters']['query']>
        ? P
        : never
    : never;
}[keyof paths];

const asked: { [P in WithPast<'get'>]: true } = {
  '/api/v1/conflicts': true,
  '/api/v1/conflicts/touched': true,
  '/api/v1/conflicts/ways': true,
  '/api/v1/devices/{id}/beside/{other}': true,
  '/api/v1/devices/{id}/past': true,
  '/api/v1/effective': true,
  '/api/v1/estate/{kind}/{id}': true,
  '/api/v1/exceptions': true,
  '/api/v1/grants': true,
  '/api/v1/groups': true,
  '/api/v1/groups/{id}': true,
  '/api/v1/groups/{id}/inherits': true,
  '/api/v1/policies': true,
  '/api/v1/policies/{id}/summary': true,
  '/api/v1/policies/{id}/use': true,
  '/api/v1/problems': true,
  '/api/v1/rollouts': true,
  '/api/v1/rollouts/{id}': true,
  '/api/v1/settings': true,
  '/api/v1/settings/{id}': true,
  '/api/v1/settings/{id}/places': true,
  '/api/v1/unit-matrix': true,
  '/api/v1/units': true,
  '/api/v1/units/{id}/inherits': true,
};

/** Questions that are sent with a body. */
const sent: { [P in WithPast<'post'>]: true } = {
  '/api/v1/audience': true,
  '/api/v1/audience/paste': true,
  '/api/v1/audience/spread': true,
  '/api/v1/devices/{id}/suppose': true,
  '/api/v1/groups/try': true,
  '/api/v1/impact': true,
  '/api/v1/impact/devices': true,
  '/api/v1/try': true,
};

/** Tells whether an operation can be asked of a moment that has passed. */
export const hasPast = (method: string, path: string) => path in (method === 'GET' ? asked : method === 'POST' ? sent : {});

let shown = sessionStorage.getItem('moment') ?? undefined; // it outlives loading the page again
const watchers = new Set<() => void>();

/** The moment that is shown, RFC 3339; undefined: now. */
export const moment = () => shown;

/** Shows another moment. The answers of the one before are not good for it: see the watchers. */
export function showMoment(at: string | undefined) {
  shown = at;
  if (at) sessionStorage.setItem('moment', at);
  else sessionStorage.removeItem('moment');
  for (const tell of watchers) tell();
}

/** Calls back whenever another moment is shown. It gives what ends that. */
export const onMoment = (tell: () => void) => {
  watchers.add(tell);
  return () => void watchers.delete(tell);
};

export const useMoment = () => useSyncExternalStore(onMoment, moment);
