// All server state: one key for each question, and what makes it stale.
import { keepPreviousData, QueryClient, useInfiniteQuery, useQuery } from '@tanstack/react-query';
import { api, got, Refusal, type Change, type Edit, type Setting, type TrialEdit, type EditKind, type EstateObject, isPolicy } from './client';
import { onMoment, useMoment } from './moment';

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
export const keys = { who: ['who'], estate: ['estate'], changes: ['changes'], devices: ['devices'], sources: ['sources'], rollouts: ['rollouts'] } as const;

export const useWho = () => useQuery({ queryKey: keys.who, queryFn: () => got(api.GET('/api/v1/session')), staleTime: Infinity });

/** A right, as operations of the API name it. */
export type Right =
  | 'read'
  | 'write'
  | 'approve'
  | 'publish'
  | 'publish-urgent'
  | 'operate-rollouts'
  | 'exceptions-approve'
  | 'devices'
  | 'sources'
  | 'audit'
  | 'accounts'
  | 'recovery-keys'
  | 'service';

/** What can be looked at in the past as well. */
const readingRights: Right[] = ['read', 'audit', 'accounts'];

/** Tells whether the reader of the page has a right. While the past is shown nobody may alter anything. */
export function useMay(right: Right) {
  const past = useMoment() !== undefined;
  return !!useWho().data?.rights.includes(right) && (!past || readingRights.includes(right));
}

/** What was asked of one moment is asked anew of the next. */
onMoment(() => {
  for (const key of [keys.estate, keys.changes, keys.devices, keys.rollouts, ['access']]) void queries.resetQueries({ queryKey: key });
});

export const useOverview = () => useQuery({ queryKey: [...keys.devices, 'overview'], queryFn: () => got(api.GET('/api/v1/overview')) });

/** How a list is looked at: what the address holds of its page. */
export interface ListQuery {
  q?: string;
  where?: string[];
  columns?: string[];
  sort?: string;
  unit?: string;
  os?: string;
  group?: string;
  state?: string;
}

const listQuery = ({ columns, ...rest }: ListQuery, cursor: string) => ({
  ...Object.fromEntries(Object.entries(rest).filter(([, v]) => v && v.length)),
  ...(columns?.length ? { columns: columns.join() } : {}),
  limit: 200,
  ...(cursor ? { cursor } : {}),
});

export const useDevices = (query: ListQuery) =>
  useInfiniteQuery({
    queryKey: [...keys.devices, 'list', query],
    queryFn: ({ pageParam }) => got(api.GET('/api/v1/devices', { params: { query: listQuery(query, pageParam) as never } })),
    initialPageParam: '',
    getNextPageParam: (last) => last.next || undefined,
    placeholderData: keepPreviousData,
  });

export const usePeople = (query: ListQuery) =>
  useInfiniteQuery({
    queryKey: [...keys.estate, 'people', query],
    queryFn: ({ pageParam }) => got(api.GET('/api/v1/people', { params: { query: listQuery(query, pageParam) as never } })),
    initialPageParam: '',
    getNextPageParam: (last) => last.next || undefined,
    placeholderData: keepPreviousData,
  });

export const usePerson = (id: string) =>
  useQuery({ queryKey: [...keys.devices, 'person', id], queryFn: () => got(api.GET('/api/v1/people/{id}', { params: { path: { id } } })), retry: false });

/** The fields of devices or people with their most frequent values. */
export const useFields = (of: 'devices' | 'people') =>
  useQuery({
    queryKey: [...keys.estate, 'fields', of],
    queryFn: () => got(api.GET('/api/v1/fields/{of}', { params: { path: { of }, query: { most: 40 } } })),
    staleTime: 60_000,
  });

export const useViews = (page: 'devices' | 'people') =>
  useQuery({ queryKey: ['views', page], queryFn: () => got(api.GET('/api/v1/views', { params: { query: { page } } })) });

/** The tree of units, each above those below it, as a change would have it. */
export const useUnitTree = (change?: Draft) =>
  useQuery({
    queryKey: [...keys.estate, 'tree', ...basis(change, 'units', 'people', 'devices')],
    queryFn: () => got(api.GET('/api/v1/units', { params: { query: change ? { change: change.id } : {} } })),
    placeholderData: keepPreviousData,
  });

/** How settings come to a unit or a group. */
export const useInheritance = (kind: 'units' | 'groups', id: string, change?: Draft) =>
  useQuery({
    queryKey: [...keys.estate, 'inherits', kind, id, change?.id ?? '', change?.version ?? 0],
    queryFn: () => {
      const params = { path: { id }, query: change ? { change: change.id } : {} };
      return kind === 'units' ? got(api.GET('/api/v1/units/{id}/inherits', { params })) : got(api.GET('/api/v1/groups/{id}/inherits', { params }));
    },
    placeholderData: keepPreviousData,
    retry: false,
  });

/** Settings beside units. */
export const useUnitMatrix = (of: { unit?: string; area?: string; all?: boolean; deep?: boolean }, change?: Draft) =>
  useQuery({
    queryKey: [...keys.estate, 'matrix', of, change?.id ?? '', change?.version ?? 0],
    queryFn: () => got(api.GET('/api/v1/unit-matrix', { params: { query: { ...of, ...(change ? { change: change.id } : {}) } } })),
    placeholderData: keepPreviousData,
    retry: false,
  });

/** What a setting is in every unit. */
export const useWhereabouts = (id: string, change?: Draft) =>
  useQuery({
    queryKey: [...keys.estate, 'places', id, change?.id ?? '', change?.version ?? 0],
    queryFn: () => got(api.GET('/api/v1/settings/{id}/places', { params: { path: { id }, query: change ? { change: change.id } : {} } })),
    placeholderData: keepPreviousData,
  });

export const useGroup = (id: string, change: Draft, enabled = true) =>
  useQuery({
    queryKey: [...keys.estate, 'group', id, change?.id ?? '', change?.version ?? 0],
    queryFn: () => got(api.GET('/api/v1/groups/{id}', { params: { path: { id }, query: change ? { change: change.id } : {} } })),
    placeholderData: (before) => (before?.group.id === id ? before : undefined), // while it is asked how the change has it now, what is typed stays
    enabled,
    retry: false,
  });

export const useDetached = () => useQuery({ queryKey: [...keys.estate, 'detached'], queryFn: () => got(api.GET('/api/v1/detached')) });

export const useExceptions = (change?: Draft) =>
  useQuery({
    queryKey: [...keys.estate, 'exceptions', ...basis(change, 'exceptions', 'units', 'people', 'devices', 'groups', 'settings')],
    queryFn: () => got(api.GET('/api/v1/exceptions', { params: { query: change ? { change: change.id } : {} } })),
    placeholderData: keepPreviousData,
  });

export const useExceptionRequests = () =>
  useQuery({ queryKey: [...keys.estate, 'requests'], queryFn: () => got(api.GET('/api/v1/exception-requests', { params: { query: {} } })) });

export const useSources = () => useQuery({ queryKey: [...keys.sources], queryFn: () => got(api.GET('/api/v1/sources')) });

export const useSource = (id: string) =>
  useQuery({ queryKey: [...keys.sources, id], queryFn: () => got(api.GET('/api/v1/sources/{id}', { params: { path: { id } } })), retry: false });

export const useLeft = (source: string) =>
  useQuery({
    queryKey: [...keys.sources, 'left', source],
    queryFn: () => got(api.GET('/api/v1/left', { params: { query: { ...(source ? { source } : {}), limit: 500 } } })),
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

/** What does not fit together: settings on which the same policies conflict, or a check with the policies that it finds wrong. */
export interface Disagreement {
  setting?: string[];
  check?: string;
  policies: string[];
}

export const useWays = (of: Disagreement, change: Draft, enabled: boolean) =>
  useQuery({
    queryKey: [...keys.estate, 'ways', of, change?.id ?? '', change?.version ?? 0],
    queryFn: () => got(api.GET('/api/v1/conflicts/ways', { params: { query: { ...of, ...(change ? { change: change.id } : {}) } } })),
    enabled,
    retry: false,
  });

export const useTouched = (of: Disagreement, change: Draft, enabled: boolean) =>
  useQuery({
    queryKey: [...keys.estate, 'touched', of, change?.id ?? '', change?.version ?? 0],
    queryFn: () => got(api.GET('/api/v1/conflicts/touched', { params: { query: { ...of, ...(change ? { change: change.id } : {}) } } })),
    enabled,
    retry: false,
  });

export const useQuestions = (state?: 'open' | 'answered') =>
  useQuery({
    queryKey: [...keys.estate, 'questions', state ?? ''],
    queryFn: () => got(api.GET('/api/v1/conflict-questions', { params: { query: state ? { state } : {} } })),
  });

export const usePolicies = (change?: string) =>
  useQuery({
    queryKey: [...keys.estate, 'policies', change ?? ''],
    queryFn: () => got(api.GET('/api/v1/policies', { params: { query: { limit: 1000, ...(change ? { change } : {}) } } })),
    placeholderData: keepPreviousData,
  });

export const usePolicyUse = (id: string, change: Draft, enabled: boolean) =>
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
      return { version: o.version, body: isPolicy(o.body) ? o.body : undefined };
    },
    enabled,
    retry: false,
  });

type Draft = { id: string; version: number; edits?: Edit[] | null } | undefined;

/**
 * What an answer depends on, of a change: its edits of some kinds, and not its version. After an edit of another kind the answer is still
 * good and is not asked for again.
 */
export const basis = (change: Draft, ...kinds: string[]): (string | number)[] => {
  if (!change) return [''];
  if (!change.edits) return [change.id, change.version];
  return [change.id, ...change.edits.filter((e) => kinds.includes(e.kind)).map((e) => `${e.kind}/${e.id}/${e.version}/${e.at}`)];
};

/** Every definition, as it is or as a change would have it. */
export const useDictionary = (change?: Draft) =>
  useQuery({
    queryKey: [...keys.estate, 'dictionary', ...basis(change, 'settings')],
    queryFn: async () => {
      const all = [];
      for (let cursor: string | undefined = ''; cursor !== undefined;) {
        const page: { items: Setting[]; next?: string } = await got(
          api.GET('/api/v1/settings', { params: { query: { limit: 1000, ...(cursor ? { cursor } : {}), ...(change ? { change: change.id } : {}) } } }),
        );
        all.push(...page.items);
        cursor = page.next || undefined;
      }
      return all;
    },
    placeholderData: keepPreviousData,
    staleTime: 60_000,
  });

export const useSettingSearch = (words: string, platforms: string[] = [], change?: Draft) =>
  useQuery({
    // Hits say where a setting is set, which any policy alters. Without words there are no hits to look at.
    queryKey: [...keys.estate, 'search', words, platforms.join(), ...basis(change, 'settings', ...(words ? ['policies'] : []))],
    queryFn: async () =>
      (
        await got(
          api.GET('/api/v1/settings', {
            params: { query: { q: words, limit: 12, ...(platforms.length ? { platform: platforms.join() } : {}), ...(change ? { change: change.id } : {}) } },
          }),
        )
      ).items,
    placeholderData: keepPreviousData,
  });

/** What is known of a setting, beside a policy of the open change where one is named. */
export const useSettingUse = (id: string, policy: string | undefined, change: Draft, enabled = true) =>
  useQuery({
    queryKey: [...keys.estate, 'setting', id, policy ?? '', change?.id ?? '', change?.version ?? 0],
    queryFn: () =>
      got(api.GET('/api/v1/settings/{id}', { params: { path: { id }, query: { ...(policy ? { policy } : {}), ...(change ? { change: change.id } : {}) } } })),
    enabled,
    placeholderData: keepPreviousData,
    retry: false,
  });

export const useSettingTypes = () => useQuery({ queryKey: ['setting-types'], queryFn: () => got(api.GET('/api/v1/setting-types')), staleTime: Infinity });
export const useAreas = () => useQuery({ queryKey: [...keys.estate, 'areas'], queryFn: () => got(api.GET('/api/v1/areas')), staleTime: 60_000 });

export const useKits = () => useQuery({ queryKey: ['kits'], queryFn: () => got(api.GET('/api/v1/kits')), staleTime: Infinity });

export const useCapture = (id: string) =>
  useQuery({
    queryKey: [...keys.devices, id, 'capture'],
    queryFn: () => got(api.GET('/api/v1/devices/{id}/capture', { params: { path: { id } } })),
    enabled: id !== '',
    retry: false,
  });

export const useHistory = (id: string) =>
  useQuery({
    queryKey: [...keys.estate, 'history', id],
    queryFn: () => got(api.GET('/api/v1/policies/{id}/history', { params: { path: { id } } })),
    retry: false,
  });

export const useDifferences = (id: string, from: number, to: number) =>
  useQuery({
    queryKey: [...keys.estate, 'differences', id, from, to],
    queryFn: () => got(api.GET('/api/v1/policies/{id}/differences', { params: { path: { id }, query: { from, to } } })),
    enabled: from > 0 && to > 0 && from !== to,
  });

export const useSummary = (id: string, change: Draft, enabled: boolean) =>
  useQuery({
    queryKey: [...keys.estate, 'summary', id, change?.id ?? '', change?.version ?? 0],
    queryFn: () => got(api.GET('/api/v1/policies/{id}/summary', { params: { path: { id }, query: change ? { change: change.id } : {} } })),
    enabled,
    retry: false,
  });

export const useFile = (sha256: string | undefined) =>
  useQuery({
    queryKey: ['file', sha256],
    queryFn: () => got(api.GET('/api/v1/files/{sha256}', { params: { path: { sha256: sha256! } } })),
    enabled: !!sha256,
    staleTime: Infinity,
    retry: false,
  });

/** The files of one content that are kept, the newest first. */
export const useFiles = (content: string, enabled: boolean) =>
  useQuery({
    queryKey: ['files', content],
    queryFn: async () =>
      (await got(api.GET('/api/v1/files', { params: { query: { limit: 200, ...(content !== 'any' ? { content: content as 'certificate' } : {}) } } }))).items,
    enabled,
  });

/** A body of bytes, as the client sends it: the API describes such a body as a text. */
export const bytes = (b: Blob) => ({ body: '', bodySerializer: () => b });

/** Sends a file to be read and kept. */
export const addFile = (file: File, content: string, acceptExpired: boolean) =>
  got(
    api.POST('/api/v1/files', {
      params: { query: { name: file.name, content: content as 'any', ...(acceptExpired ? { accept_expired: true } : {}) } },
      ...bytes(file),
      headers: { 'Content-Type': 'application/octet-stream' },
    }),
  );

export const useGroups = (change?: Draft) =>
  useQuery({
    queryKey: [...keys.estate, 'groups', ...basis(change, 'groups', 'units', 'people', 'devices')],
    queryFn: async () => (await got(api.GET('/api/v1/groups', { params: { query: { limit: 1000, ...(change ? { change: change.id } : {}) } } }))).items,
    placeholderData: keepPreviousData,
  });

export const useUnits = () => useUnitTree();

/** Where the reader of the page holds a right: everywhere, for some units alone, or nowhere. */
export function useScope(right: Right) {
  const who = useWho().data;
  const units = useUnits().data ?? [];
  const within = who?.within?.[right] ?? [];
  const held = !!who?.rights.includes(right);
  return {
    everywhere: held && within.length === 0,
    titles: within.map((id) => units.find((u) => u.id === id)?.title || id),
    /** Tells whether the right is held for something in a unit; without a unit it concerns everybody. */
    has: (unit: string | undefined): boolean => {
      if (!held || within.length === 0) return held;
      for (let at = unit; at; at = units.find((u) => u.id === at)?.parent) if (within.includes(at)) return true;
      return false;
    },
  };
}

export const useChanges = (state?: Change['state']) =>
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

/** What retiring a policy would do, together with the rest of the open change. */
export const useRetirement = (id: string, change: Draft, enabled: boolean) =>
  useQuery({
    queryKey: [...keys.estate, 'retirement', id, change?.id ?? '', change?.version ?? 0],
    queryFn: () => tryEdits(change?.id, [{ kind: 'policies', id, retire: true }]),
    enabled,
    retry: false,
  });

/** Writes under way, by the change that they go into: news of a change waits for them. */
export const writes = new Map<string, Promise<unknown>>();

/**
 * Puts an object into a change and gives the edit with what the change does then. The answer becomes what is known of the change: nothing
 * of it is read again.
 */
export async function putEdit(change: string, kind: EditKind, object: EstateObject, version: number | undefined): Promise<Edit> {
  const writing = got(
    api.PUT('/api/v1/changes/{id}/edits/{kind}/{object}', {
      params: {
        path: { id: change, kind, object: object.id },
        query: { effect: true },
        header: version ? { 'If-Match': `"${version}"` } : {},
      },
      body: object,
    }),
  );
  const after = writing.then(
    (edit) => stored(change, edit),
    () => undefined,
  );
  writes.set(change, after);
  await after;
  if (writes.get(change) === after) writes.delete(change);
  return writing;
}

/** Takes what a write answered as what is known. An answer under way that was asked for before is dropped: it may be older. */
export async function stored(change: string, { effect, change_version: version, ...edit }: Edit) {
  const key = [...keys.changes, change];
  await queries.cancelQueries({ queryKey: key });
  if (version && effect?.impact) queries.setQueryData([...key, 'impact', version], effect.impact);
  if (version && effect?.use) queries.setQueryData([...keys.estate, 'use', edit.id, change, version], effect.use);
  queries.setQueryData<Change>(key, (was) => {
    if (!was) return was;
    const edits = [...(was.edits ?? []).filter((e) => e.kind !== edit.kind || e.id !== edit.id), edit];
    return { ...was, edits, version: Math.max(was.version, version ?? 0) };
  });
  void queries.invalidateQueries({ queryKey: [...keys.changes, 'list'] });
}

/** Requests to see a recovery key that wait for the reader as the second person. */
export const useKeyRequests = (enabled: boolean) =>
  useQuery({ queryKey: [...keys.devices, 'recovery', 'requests'], queryFn: () => got(api.GET('/api/v1/key-requests')), enabled });

/** What has to be looked at about recovery keys. */
export const useRecoveryFindings = () =>
  useQuery({ queryKey: [...keys.devices, 'recovery', 'findings'], queryFn: () => got(api.GET('/api/v1/coverage/findings')) });
