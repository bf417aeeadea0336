// The open change: which one it is, and how edits get into it.
import { createContext, useCallback, useContext, useMemo, useState, type ReactNode } from 'react';
import { api, got, type Change, type Edit, type EditKind, type EstateObject } from '../api/client';
import { keys, putEdit, queries, stored, useChange } from '../api/queries';

interface OpenChange {
  id?: string;
  change?: Change;
  choose: (id: string | undefined) => void;
  /** Gives the open change, or opens one with this title. */
  need: (title: string) => Promise<string>;
  /** Puts an object in; version is that of the edit which is there already. It gives the edit, with what the change does then. */
  put: (kind: EditKind, object: EstateObject, version: number | undefined, title: string) => Promise<Edit>;
  retire: (kind: EditKind, id: string, title: string) => Promise<void>;
  drop: (kind: EditKind, id: string) => Promise<void>;
}

type Means = Omit<OpenChange, 'change'>;

const Context = createContext<Means | null>(null);

const whileOpen = (change: Change | undefined) => (change?.state === 'open' ? change : undefined);

export function OpenChangeProvider({ children }: { children: ReactNode }) {
  const [began] = useState(() => localStorage.getItem('open-change') ?? undefined);
  const [id, setID] = useState(began);
  const query = useChange(id);
  const change = whileOpen(query.data);
  const gone = !!id && (query.isError || (query.data && query.data.state !== 'open'));

  const choose = useCallback((next: string | undefined) => {
    if (next) localStorage.setItem('open-change', next);
    else localStorage.removeItem('open-change');
    setID(next);
  }, []);

  const value = useMemo<Means>(() => {
    const current = gone ? undefined : id;
    const need = async (title: string) => {
      if (current) return current;
      const opened = await got(api.POST('/api/v1/changes', { body: { title } }));
      queries.setQueryData([...keys.changes, opened.id], opened);
      choose(opened.id);
      return opened.id;
    };
    const refresh = () => queries.invalidateQueries({ queryKey: keys.changes });
    return {
      id: current,
      choose,
      need,
      put: async (kind, object, version, title) => putEdit(await need(title), kind, object, version),
      retire: async (kind, object, title) => {
        const into = await need(title);
        const there = change?.edits?.find((e) => e.kind === kind && e.id === object);
        const edit = await got(
          api.POST('/api/v1/changes/{id}/edits/{kind}/{object}/retire', {
            params: { path: { id: into, kind, object }, header: there ? { 'If-Match': `"${there.version}"` } : {} },
          }),
        );
        await stored(into, edit);
        void refresh();
      },
      drop: async (kind, object) => {
        if (!current) return;
        await got(api.DELETE('/api/v1/changes/{id}/edits/{kind}/{object}', { params: { path: { id: current, kind, object } } }));
        await refresh();
      },
    };
  }, [id, gone, change, choose]);

  // Nothing is shown as it is live before it is known what the change has of it: what somebody types there at once would be gone.
  if (id && id === began && query.isPending) return null;
  return <Context.Provider value={value}>{children}</Context.Provider>;
}

export function useOpenChange(): OpenChange {
  const c = useContext(Context);
  if (!c) throw new Error('useOpenChange needs its provider');
  // The change is asked for here and does not come with the context: a page that is shown right after an edit was kept has that edit.
  return { ...c, change: whileOpen(useChange(c.id).data) };
}
