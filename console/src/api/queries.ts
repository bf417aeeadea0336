// All server state: one key for each question, and what makes it stale.
import { keepPreviousData, QueryClient, useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { useEffect } from 'react';
import { api, got, Refusal, type PolicyDoc, type TrialEdit } from './client';
import { watchEvents } from './events';

export const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 10_000,
      retry: (n, e) => n < 2 && !(e instanceof Refusal),
      refetchOnWindowFocus: false,
    },
  },
});

/** The keys' first words: everything asked of the estate, of changes, of devices. */
export const keys = { who: ['who'], estate: ['estate'], changes: ['changes'], devices: ['devices'] } as const;

export const useWho = () => useQuery({ queryKey: keys.who, queryFn: () => got(api.GET('/api/v1/session')), staleTime: Infinity });

export const useOverview = () => useQuery({ queryKey: [...keys.devices, 'overview'], queryFn: () => got(api.GET('/api/v1/overview')) });

export interface DeviceFilter {
  q?: string;
  unit?: string;
  os?: 'linux' | 'windows' | 'macos';
  group?: string;
  state?: 'silent' | 'never-seen' | 'failed' | 'pending' | 'conflict' | 'problem';
  sort?: string;
}

export const useDevices = (filter: DeviceFilter) =>
  useInfiniteQuery({
    queryKey: [...keys.devices, 'list', filter],
    queryFn: ({ pageParam }) =>
      got(api.GET('/api/v1/devices', { params: { query: { ...(filter as object), limit: 200, ...(pageParam ? { cursor: pageParam } : {}) } } })),
    initialPageParam: '',
    getNextPageParam: (last) => last.next || undefined,
    placeholderData: keepPreviousData,
  });

export const useDevice = (id: string) =>
  useQuery({ queryKey: [...keys.devices, id], queryFn: () => got(api.GET('/api/v1/devices/{id}', { params: { path: { id } } })) });

export const useConflicts = (change?: string) =>
  useQuery({
    queryKey: [...keys.estate, 'conflicts', change ?? ''],
    queryFn: () => got(api.GET('/api/v1/conflicts', { params: { query: change ? { change } : {} } })),
    placeholderData: keepPreviousData,
  });

export const useProblems = (change?: string) =>
  useQuery({
    queryKey: [...keys.estate, 'problems', change ?? ''],
    queryFn: () => got(api.GET('/api/v1/problems', { params: { query: change ? { change } : {} } })),
    placeholderData: keepPreviousData,
  });

export const usePolicies = (change?: string) =>
  useQuery({
    queryKey: [...keys.estate, 'policies', change ?? ''],
    queryFn: () => got(api.GET('/api/v1/policies', { params: { query: { limit: 1000, ...(change ? { change } : {}) } } })),
    placeholderData: keepPreviousData,
  });

export const usePolicyUse = (id: string, change: { id: string; version: number } | undefined, enabled: boolean) =>
  useQuery({
    queryKey: [...keys.estate, 'use', id, change?.id ?? '', change?.version ?? 0],
    queryFn: () => got(api.GET('/api/v1/policies/{id}/use', { params: { path: { id }, query: change ? { change: change.id } : {} } })),
    enabled,
    retry: false,
  });

export const useLivePolicy = (id: string, enabled: boolean) =>
  useQuery({
    queryKey: [...keys.estate, 'policy', id],
    queryFn: async () => {
      const o = await got(api.GET('/api/v1/estate/{kind}/{id}', { params: { path: { kind: 'policies', id } } }));
      return { version: o.version, body: o.body as PolicyDoc };
    },
    enabled,
    retry: false,
  });

export const useDictionary = () =>
  useQuery({
    queryKey: [...keys.estate, 'dictionary'],
    queryFn: async () => (await got(api.GET('/api/v1/settings', { params: { query: { limit: 1000 } } }))).items,
    staleTime: 60_000,
  });

export const useSettingSearch = (words: string) =>
  useQuery({
    queryKey: [...keys.estate, 'search', words],
    queryFn: async () => (await got(api.GET('/api/v1/settings', { params: { query: { q: words, limit: 12 } } }))).items,
    placeholderData: keepPreviousData,
  });

export const useGroups = () =>
  useQuery({ queryKey: [...keys.estate, 'groups'], queryFn: async () => (await got(api.GET('/api/v1/groups', { params: { query: { limit: 1000 } } }))).items });

export const useUnits = () =>
  useQuery({
    queryKey: [...keys.estate, 'units'],
    queryFn: async () =>
      (await got(api.GET('/api/v1/estate/{kind}', { params: { path: { kind: 'units' }, query: { limit: 1000 } } }))).items.map(
        (o) => o.body as { id: string; title?: string; parent?: string },
      ),
  });

export const useChanges = (state?: 'open' | 'published' | 'discarded') =>
  useQuery({ queryKey: [...keys.changes, 'list', state ?? ''], queryFn: () => got(api.GET('/api/v1/changes', { params: { query: state ? { state } : {} } })) });

export const useChange = (id: string | undefined) =>
  useQuery({
    queryKey: [...keys.changes, id],
    queryFn: () => got(api.GET('/api/v1/changes/{id}', { params: { path: { id: id! } } })),
    enabled: !!id,
    retry: false,
  });

/** The impact of a change as it is at a version: another version is another question, so that no late answer to an old one is shown. */
export const useImpact = (change: { id: string; version: number } | undefined) =>
  useQuery({
    queryKey: [...keys.changes, change?.id, 'impact', change?.version],
    queryFn: () => got(api.GET('/api/v1/changes/{id}/impact', { params: { path: { id: change!.id } } })),
    enabled: !!change,
    placeholderData: (before, query) => (query?.queryKey[1] === change?.id ? before : undefined),
    retry: false,
  });

/** What edits would do if they were put into a change; nothing is stored. */
export const tryEdits = (change: string | undefined, edits: TrialEdit[]) =>
  got(api.POST('/api/v1/try', { params: { query: change ? { change } : {} }, body: { edits } }));

/** Asks again for what has changed. Laptops check in all the time: their news is gathered. */
export function useLiveUpdates(on: boolean) {
  useEffect(() => {
    if (!on) return;
    let waiting: ReturnType<typeof setTimeout> | undefined;
    const stop = watchEvents((topic) => {
      if (topic === 'device') {
        waiting ??= setTimeout(() => {
          waiting = undefined;
          void queries.invalidateQueries({ queryKey: keys.devices });
        }, 2000);
        return;
      }
      void queries.invalidateQueries({ queryKey: keys.changes });
      if (topic === 'estate') {
        void queries.invalidateQueries({ queryKey: keys.estate });
        void queries.invalidateQueries({ queryKey: keys.devices });
      }
    });
    return () => {
      clearTimeout(waiting);
      stop();
    };
  }, [on]);
}
