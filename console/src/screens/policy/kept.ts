// What is typed is tried against the whole estate, and kept in the open change when it has no faults.
import { useCallback, useEffect, useRef, useState } from 'react';
import type { PolicyDoc, Trial } from '../../api/client';
import { tryEdits } from '../../api/queries';
import { useOpenChange } from '../../ui/change';

export type Saving = { state: 'as stored' | 'checking' | 'saved' | 'faults' } | { state: 'refused'; error: unknown };

/** Tries what is typed, and keeps it in the open change when it has no faults. */
export function useKept(start: PolicyDoc, editVersion: number | undefined) {
  const open = useOpenChange();
  const [doc, setDoc] = useState(start);
  const [trial, setTrial] = useState<Trial>();
  const [saving, setSaving] = useState<Saving>({ state: 'as stored' });
  const version = useRef(editVersion);
  const dirty = useRef(false);
  const latest = useRef(0);
  const openRef = useRef(open);
  openRef.current = open;
  useEffect(() => {
    if (!dirty.current) version.current = editVersion;
  }, [editVersion]);

  useEffect(() => {
    if (!dirty.current) return;
    const turn = ++latest.current;
    setSaving({ state: 'checking' });
    const wait = setTimeout(() => {
      void (async () => {
        try {
          const said = await tryEdits(openRef.current.id, [{ kind: 'policies', id: doc.id, body: doc as never }]);
          if (turn !== latest.current) return;
          setTrial(said);
          if (said.faults?.length) return setSaving({ state: 'faults' });
          version.current = await openRef.current.put('policies', doc, version.current, `Edit ${doc.title || doc.id}`);
          if (turn === latest.current) {
            dirty.current = false;
            setSaving({ state: 'saved' });
          }
        } catch (error) {
          if (turn === latest.current) setSaving({ state: 'refused', error });
        }
      })();
    }, 350);
    return () => clearTimeout(wait);
  }, [doc]);

  const alter = useCallback((how: (d: PolicyDoc) => PolicyDoc) => {
    dirty.current = true;
    setDoc(how);
  }, []);
  const take = useCallback((stored: PolicyDoc, at: number | undefined) => {
    latest.current++;
    dirty.current = false;
    version.current = at;
    setDoc(stored);
    setTrial(undefined);
    setSaving({ state: 'as stored' });
  }, []);
  return { doc, alter, take, trial, saving, isDirty: () => dirty.current };
}

