// What is typed is tried against the whole estate, and kept in the open change when it has no faults. When somebody else saved the
// same policy in between, both are brought together setting by setting; where both altered the same, a person chooses.
import { useCallback, useEffect, useRef, useState } from 'react';
import { api, got, Refusal, type Merged, type PolicyDoc, type Trial } from '../../api/client';
import { tryEdits } from '../../api/queries';
import { useOpenChange } from '../../ui/change';
import { isPlaceholder } from '../../ui/control';
import { pause, timed } from '../../ui/typed';
import { long, same } from './entry';

export type Saving =
  | { state: 'as stored' | 'checking' | 'saved' | 'merged' | 'faults' | 'which change' }
  | { state: 'conflicts'; merged: Merged }
  | { state: 'refused'; error: unknown };

/** The policy without places for files that are still to be chosen. */
const complete = (doc: PolicyDoc): PolicyDoc => ({
  ...doc,
  settings: Object.fromEntries(Object.entries(doc.settings).filter(([, e]) => !isPlaceholder(long(e).value))),
});

/** What is typed and not kept yet, in this browser: leaving the page, with faults or in mid-word, loses nothing. */
interface Typed {
  change: string;
  version?: number;
  base: PolicyDoc;
  doc: PolicyDoc;
}

/** What came of what is typed: faults, or what it does, with the version of the change that has it. */
type Tried = Trial & { version: number; waits?: boolean }; // waits: it is kept nowhere before somebody says in which change

const typedKey = (id: string) => `typed:${id}`;

function readTyped(id: string, change: string | undefined): Typed | undefined {
  try {
    const typed: Typed | null = JSON.parse(sessionStorage.getItem(typedKey(id)) ?? 'null');
    return typed && typed.change === (change ?? '') ? typed : undefined;
  } catch {
    return undefined;
  }
}

/** Forgets what was typed of a policy and not kept. */
export const forgetTyped = (id: string) => sessionStorage.removeItem(typedKey(id));

/** Tries what is typed, and keeps it in the open change when it has no faults. */
export function useSaving(start: PolicyDoc, editVersion: number | undefined) {
  const open = useOpenChange();
  const [typed] = useState(() => readTyped(start.id, open.id));
  const [doc, setDoc] = useState(typed?.doc ?? start);
  const [trial, setTrial] = useState<Tried>();
  const [decided, setDecided] = useState(0); // how often somebody said in which change it belongs
  const [saving, setSaving] = useState<Saving>({ state: 'as stored' });
  const version = useRef(typed ? typed.version : editVersion);
  const base = useRef(typed?.base ?? start); // what is typed began from
  const dirty = useRef(!!typed);
  const latest = useRef(0);
  const alters = useRef(0); // how often something was typed: it rises at once, before anything is rendered
  const writing = useRef<Promise<unknown>>(Promise.resolve()); // the write under way: the next one needs its version
  const openRef = useRef(open);
  openRef.current = open;
  /** Tells whether what was read is older than what was kept here: the answer to an earlier question, come late. */
  const late = useCallback((at: number | undefined) => at !== undefined && version.current !== undefined && at < version.current, []);
  const isDirty = useCallback(() => dirty.current, []);
  useEffect(() => {
    if (!dirty.current && !late(editVersion)) version.current = editVersion;
  }, [editVersion, late]);

  const mergeWithTheirs = useCallback(async (mine: PolicyDoc) => {
    const merged = await got(
      api.POST('/api/v1/changes/{id}/edits/policies/{object}/merge', {
        params: { path: { id: openRef.current.id!, object: mine.id } },
        body: { base: base.current, mine },
      }),
    );
    version.current = merged.version;
    return merged;
  }, []);

  /**
   * Stores a policy in the open change, unless it has faults. Where no change is open it is tried first: what has faults opens none. Where
   * the open change is about other things, it is tried alone: somebody says first where it belongs.
   */
  const store = useCallback(async (mine: PolicyDoc): Promise<Tried> => {
    const waits = openRef.current.asks([`policies/${mine.id}`]);
    if (!openRef.current.id || waits) {
      const said = await tryEdits(openRef.current.id, [{ kind: 'policies', id: mine.id, body: mine }]);
      if (said.faults?.length) return { faults: said.faults, version: 0 };
      if (waits) return { ...said, version: openRef.current.change?.version ?? 0, waits };
    }
    try {
      const edit = await openRef.current.put('policies', mine, version.current, `Edit ${mine.title || mine.id}`);
      version.current = edit.version;
      base.current = mine;
      return { ...edit.effect, version: edit.change_version ?? 0 };
    } catch (error) {
      if (error instanceof Refusal && error.problem.faults?.length) return { faults: error.problem.faults, version: 0 };
      throw error;
    }
  }, []);

  useEffect(() => {
    if (!dirty.current) return;
    const unsaved: Typed = { change: openRef.current.id ?? '', version: version.current, base: base.current, doc };
    sessionStorage.setItem(typedKey(doc.id), JSON.stringify(unsaved));
    const turn = ++latest.current;
    const of = alters.current;
    const isLatest = () => turn === latest.current && of === alters.current;
    setSaving((was) => (was.state === 'checking' ? was : { state: 'checking' }));
    const wait = setTimeout(() => {
      void (async () => {
        await writing.current.catch(() => undefined);
        if (turn !== latest.current) return; // more was typed
        const mine = complete(doc);
        try {
          const saved = timed(store(mine));
          writing.current = saved;
          const said = await saved;
          if (turn !== latest.current) return;
          setTrial(said);
          if (said.faults?.length) return setSaving({ state: 'faults' });
          if (said.waits) return setSaving({ state: 'which change' });
          if (isLatest()) {
            dirty.current = false;
            forgetTyped(doc.id);
            setSaving({ state: 'saved' });
          }
        } catch (error) {
          if (turn !== latest.current) return;
          if (!(error instanceof Refusal && [412, 428].includes(error.problem.status) && openRef.current.id)) return setSaving({ state: 'refused', error });
          try {
            const merged = await mergeWithTheirs(mine);
            if (turn !== latest.current) return;
            if (merged.conflicts.length) return setSaving({ state: 'conflicts', merged });
            const body = merged.body;
            version.current = (await openRef.current.put('policies', body, merged.version, `Edit ${doc.title || doc.id}`)).version;
            if (!isLatest()) return; // what was typed meanwhile is brought together with it in its turn
            latest.current++;
            base.current = body;
            dirty.current = false;
            forgetTyped(doc.id);
            setDoc(body);
            setSaving({ state: 'merged' });
          } catch (failed) {
            if (turn === latest.current) setSaving({ state: 'refused', error: failed });
          }
        }
      })();
    }, pause());
    return () => clearTimeout(wait);
  }, [doc, decided, mergeWithTheirs, store]);

  const alter = useCallback((how: (d: PolicyDoc) => PolicyDoc) => {
    alters.current++;
    dirty.current = true;
    setDoc(how);
  }, []);
  const take = useCallback((stored: PolicyDoc, at: number | undefined) => {
    latest.current++;
    dirty.current = false;
    forgetTyped(stored.id);
    const ours = same(stored, base.current); // what was just kept here, coming back
    version.current = at;
    base.current = stored;
    setDoc((was) => (same(stored, complete(was)) ? was : stored));
    if (ours) return;
    setTrial(undefined);
    setSaving({ state: 'as stored' });
  }, []);
  /** Goes on with what a person chose where both had altered the same; theirs is what it began from now. */
  const choose = useCallback((chosen: PolicyDoc, theirs: PolicyDoc) => {
    base.current = theirs;
    dirty.current = true;
    setDoc(chosen);
  }, []);
  /** Keeps what waits: in the open change, or in a new one. */
  const decide = useCallback(
    (how: 'this' | 'all' | 'new') => {
      if (how === 'new') openRef.current.choose(undefined);
      else openRef.current.accept([`policies/${start.id}`], how === 'all');
      setDecided((n) => n + 1);
    },
    [start.id],
  );
  return { doc, alter, take, choose, decide, trial, saving, isDirty, late, complete };
}
