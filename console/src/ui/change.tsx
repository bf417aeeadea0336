// The open change: which one it is, and how edits get into it. An edit of something that the change has nothing of goes in only after
// somebody said so: it may be left open from something else.
import { createContext, useCallback, useContext, useMemo, useRef, useState, type ReactNode } from 'react';
import { api, got, NotNow, type Change, type Edit, type EditKind, type EstateObject } from '../api/client';
import { keys, putEdit, queries, stored, useChange } from '../api/queries';
import { Dialog } from './parts';
import { count } from './words';

/** An object that an edit is about, as kind/id. */
export type Subject = `${EditKind}/${string}`;

interface OpenChange {
  id?: string;
  change?: Change;
  choose: (id: string | undefined) => void;
  /** Tells whether it has to be asked before an edit of these objects goes into the open change. */
  asks: (about: Subject[]) => boolean;
  /** Notes that edits of these objects belong into the open change; all: that those of any object do. */
  accept: (about: Subject[], all?: boolean) => void;
  /** Gives the open change, or opens one with this title. It asks first where the change is about other things; refused: NotNow. */
  need: (title: string, about: Subject[]) => Promise<string>;
  /**
   * Puts an object in; version is that of the edit which is there already. It gives the edit, with what the change does then.
   * @param with_ other objects that the edit belongs to
   */
  put: (kind: EditKind, object: EstateObject, version: number | undefined, title: string, with_?: Subject[]) => Promise<Edit>;
  retire: (kind: EditKind, id: string, title: string) => Promise<void>;
  drop: (kind: EditKind, id: string) => Promise<void>;
}

type Means = Omit<OpenChange, 'change'>;

const Context = createContext<Means | null>(null);

const whileOpen = (change: Change | undefined) => (change?.state === 'open' ? change : undefined);

/** Which edits were said to belong into a change, for this tab: subjects, or all. */
const acceptedKey = (change: string) => `belongs:${change}`;
const accepted = (change: string): string[] => JSON.parse(sessionStorage.getItem(acceptedKey(change)) ?? '[]');

type Answer = 'this' | 'new' | 'cancel';

export function OpenChangeProvider({ children }: { children: ReactNode }) {
  const [began] = useState(() => localStorage.getItem('open-change') ?? undefined);
  const [id, setID] = useState(began);
  const query = useChange(id);
  const change = whileOpen(query.data);
  const gone = !!id && (query.isError || (query.data && query.data.state !== 'open'));
  const [question, setQuestion] = useState<{ title: string; answer: (a: Answer) => void }>();
  const changeRef = useRef(change);
  changeRef.current = change;

  const choose = useCallback((next: string | undefined) => {
    if (next) localStorage.setItem('open-change', next);
    else localStorage.removeItem('open-change');
    setID(next);
  }, []);

  const value = useMemo<Means>(() => {
    const current = gone ? undefined : id;
    const asks = (about: Subject[]) => {
      const edits = changeRef.current?.edits ?? [];
      if (!current || edits.length === 0) return false;
      const belongs = accepted(current);
      return !belongs.includes('all') && !about.some((s) => belongs.includes(s) || edits.some((e) => s === `${e.kind}/${e.id}`));
    };
    const accept = (about: Subject[], all = false) => {
      if (current) sessionStorage.setItem(acceptedKey(current), JSON.stringify([...new Set([...accepted(current), ...about, ...(all ? ['all'] : [])])]));
    };
    const need = async (title: string, about: Subject[]) => {
      let into = current;
      if (asks(about)) {
        const answer = await new Promise<Answer>((resolve) => setQuestion({ title, answer: resolve }));
        if (answer === 'cancel') throw new NotNow();
        if (answer === 'this') accept(about);
        else into = undefined;
      }
      if (into) return into;
      const opened = await got(api.POST('/api/v1/changes', { body: { title } }));
      queries.setQueryData([...keys.changes, opened.id], opened);
      choose(opened.id);
      return opened.id;
    };
    const refresh = () => queries.invalidateQueries({ queryKey: keys.changes });
    return {
      id: current,
      choose,
      asks,
      accept,
      need,
      put: async (kind, object, version, title, with_ = []) => putEdit(await need(title, [`${kind}/${object.id}`, ...with_]), kind, object, version),
      retire: async (kind, object, title) => {
        const into = await need(title, [`${kind}/${object}`]);
        const there = into === current ? changeRef.current?.edits?.find((e) => e.kind === kind && e.id === object) : undefined;
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
  }, [id, gone, choose]);

  // Nothing is shown as it is live before it is known what the change has of it: what somebody types there at once would be gone.
  if (id && id === began && query.isPending) return null;
  const answer = (a: Answer, all = false) => {
    if (all) value.accept([], true);
    question?.answer(a);
    setQuestion(undefined);
  };
  return (
    <Context.Provider value={value}>
      {children}
      <Dialog open={!!question} onClose={() => answer('cancel')} title="Which change does this go into?">
        {question && change && <Question title={question.title} change={change} answer={answer} />}
      </Dialog>
    </Context.Provider>
  );
}

function Question({ title, change, answer }: { title: string; change: Change; answer: (a: Answer, all?: boolean) => void }) {
  const [all, setAll] = useState(false);
  return (
    <div className="flex flex-col gap-3 text-sm">
      <p>
        ‘{change.title}’ is open, with {count(change.edits?.length ?? 0, 'edit')}, and none of them is about this: {title}.
      </p>
      <label className="flex items-center gap-2">
        <input type="checkbox" className="checkbox checkbox-sm" checked={all} onChange={(e) => setAll(e.target.checked)} /> Do not ask again for ‘{change.title}
        ’
      </label>
      <div className="flex flex-wrap justify-end gap-2">
        <button type="button" data-cancel className="btn btn-sm" onClick={() => answer('cancel')}>
          Cancel
        </button>
        <button type="button" className="btn btn-sm" onClick={() => answer('new')}>
          Begin a new change
        </button>
        <button type="button" className="btn btn-primary btn-sm" onClick={() => answer('this', all)}>
          Put it into ‘{change.title}’
        </button>
      </div>
      <p className="quiet text-[13px]">With a new change, ‘{change.title}’ stays as it is, in the list of changes.</p>
    </div>
  );
}

export function useOpenChange(): OpenChange {
  const c = useContext(Context);
  if (!c) throw new Error('useOpenChange needs its provider');
  // The change is asked for here and does not come with the context: a page that is shown right after an edit was kept has that edit.
  return { ...c, change: whileOpen(useChange(c.id).data) };
}
