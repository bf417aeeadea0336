// The bar above a list: words, conditions, columns, and views that are kept.
import { Bookmark, Columns3, Download, ListFilter, X } from 'lucide-react';
import { useId, useState, type ReactNode } from 'react';
import { useNavigate } from 'react-router';
import { api, got } from '../api/client';
import { useFields, useViews, type ListQuery } from '../api/queries';
import { useWrite } from '../api/writes';
import { Dialog, Failed, Field } from './parts';
import { useTyped } from './typed';
import { count, valueText } from './words';

/** The words by which fields are called. */
export const fieldWord = (name: string) => name.replace(/^(facts|attributes)\//, '').replaceAll('_', ' ');

const operators: [string, string][] = [
  ['=', 'is'],
  ['!=', 'is not'],
  ['>=', 'at least'],
  ['<=', 'at most'],
  ['~', 'holds'],
  ['?', 'is known'],
  ['!?', 'is not known'],
];

const split = (condition: string) => {
  const found = /^([^=!><~?]+)(!=|>=|<=|!\?|=|>|<|~|\?)(.*)$/.exec(condition);
  return found ? { field: found[1]!, op: found[2]!, words: found[3]! } : { field: condition, op: '?', words: '' };
};

const said = (condition: string) => {
  const { field, op, words } = split(condition);
  return `${fieldWord(field)} ${operators.find(([o]) => o === op)?.[1] ?? op} ${words.replaceAll('|', ' or ')}`.trim();
};

/** Search, conditions as chips, columns, views and export in one line. */
export function ListBar({
  of,
  placeholder,
  query,
  set,
  params,
  fixed,
  shown,
  children,
}: {
  of: 'devices' | 'people';
  placeholder: string;
  query: ListQuery;
  set: (part: Partial<ListQuery>) => void;
  params: URLSearchParams;
  fixed: string[];
  shown: string[];
  children?: ReactNode;
}) {
  const [text, type] = useTyped(query.q ?? '', (q) => set({ q }), 200);
  const [adding, setAdding] = useState(false);
  const narrowed = [...params.keys()].some((k) => k !== 'columns' && k !== 'sort');
  const exported = new URLSearchParams(params);
  exported.set('columns', shown.join());
  return (
    <div className="flex flex-col gap-2">
      <div className="flex flex-wrap items-center gap-2" role="search">
        <input
          type="search"
          aria-label={`Search ${of}`}
          placeholder={placeholder}
          className="input input-sm w-52"
          value={text}
          onChange={(e) => type(e.target.value)}
        />
        {children}
        <button type="button" className="btn btn-sm" aria-expanded={adding} onClick={() => setAdding(!adding)}>
          <ListFilter size={14} aria-hidden /> Condition
        </button>
        <div className="flex-1" />
        <Views of={of} params={params} />
        <Columns of={of} fixed={fixed} chosen={query.columns ?? []} onChange={(columns) => set({ columns })} />
        <a
          className="btn btn-sm"
          href={`/api/v1/exports/${of}?${exported}`}
          download={`${of}.csv`}
          title="All rows that fit, in these columns and this order, as CSV"
        >
          <Download size={14} aria-hidden /> Export
        </a>
      </div>
      {adding && (
        <Condition
          of={of}
          onAdd={(c) => {
            set({ where: [...(query.where ?? []), c] });
            setAdding(false);
          }}
        />
      )}
      {(narrowed || query.where?.length) && (
        <div className="flex flex-wrap items-center gap-1.5 text-[13px]">
          {query.where?.map((c) => (
            <span key={c} className="inline-flex items-center gap-1 rounded border border-base-300 bg-base-100 px-2 py-0.5">
              {said(c)}
              <button
                type="button"
                className="btn btn-ghost btn-xs btn-square"
                aria-label={`Without: ${said(c)}`}
                onClick={() => set({ where: query.where!.filter((o) => o !== c) })}
              >
                <X size={12} aria-hidden />
              </button>
            </span>
          ))}
          <button
            type="button"
            className="btn btn-ghost btn-xs"
            onClick={() => set(Object.fromEntries([...params.keys()].filter((k) => k !== 'columns' && k !== 'sort').map((k) => [k, undefined])))}
          >
            Show all
          </button>
        </div>
      )}
    </div>
  );
}

/** One condition: a field, how it is compared, and with what; values that are frequent are offered with how many have them. */
function Condition({ of, onAdd }: { of: 'devices' | 'people'; onAdd: (condition: string) => void }) {
  const fields = useFields(of).data ?? [];
  const [field, setField] = useState(of === 'devices' ? 'os_version' : 'unit');
  const [op, setOp] = useState('=');
  const [words, setWords] = useState('');
  const known = fields.find((f) => f.name === field);
  const options = useId();
  const alone = op === '?' || op === '!?';
  return (
    <form
      className="flex flex-wrap items-center gap-2 rounded border border-base-300 bg-base-100 px-3 py-2"
      onSubmit={(e) => {
        e.preventDefault();
        if (alone || words.trim()) onAdd(field + op + (alone ? '' : words.trim()));
      }}
    >
      <select aria-label="Field" className="select select-sm w-auto" value={field} onChange={(e) => setField(e.target.value)}>
        {fields.map((f) => (
          <option key={f.name} value={f.name}>
            {fieldWord(f.name)}
          </option>
        ))}
        {of === 'devices' &&
          ['state', 'problems', 'failed', 'pending', 'conflict', 'enrolled', 'last_seen', 'source', 'left'].map((n) => <option key={n}>{n}</option>)}
        {of === 'people' && ['source', 'left'].map((n) => <option key={n}>{n}</option>)}
      </select>
      <select aria-label="How it is compared" className="select select-sm w-auto" value={op} onChange={(e) => setOp(e.target.value)}>
        {operators.map(([o, word]) => (
          <option key={o} value={o}>
            {word}
          </option>
        ))}
      </select>
      {!alone && (
        <>
          <input
            aria-label="Value"
            list={options}
            className="input input-sm w-56"
            placeholder="value, or several with |"
            value={words}
            onChange={(e) => setWords(e.target.value)}
          />
          <datalist id={options}>
            {known?.most.map((m) => (
              <option key={valueText(m.value)} value={valueText(m.value)}>
                {count(m.count, of === 'devices' ? 'laptop' : 'person', of === 'devices' ? 'laptops' : 'people')}
              </option>
            ))}
          </datalist>
        </>
      )}
      <button type="submit" className="btn btn-primary btn-sm">
        Add
      </button>
      {known && (
        <span className="quiet text-[13px]">
          {count(known.known, 'has', 'have')} a value, {count(known.distinct, 'different one', 'different ones')}
        </span>
      )}
    </form>
  );
}

function Columns({ of, fixed, chosen, onChange }: { of: 'devices' | 'people'; fixed: string[]; chosen: string[]; onChange: (columns: string[]) => void }) {
  const fields = (useFields(of).data ?? []).map((f) => f.name).filter((n) => !fixed.includes(n));
  const more = of === 'devices' ? [...fields, 'enrolled', 'source', 'left'] : [...fields, 'source', 'left'];
  return (
    <details className="dropdown dropdown-end">
      <summary className="btn btn-sm">
        <Columns3 size={14} aria-hidden /> Columns{chosen.length > 0 ? ` (${chosen.length} more)` : ''}
      </summary>
      <fieldset className="dropdown-content z-30 max-h-80 w-60 overflow-auto rounded border border-base-300 bg-base-100 p-3 text-sm shadow-lg">
        <legend className="sr-only">Columns besides the usual ones</legend>
        {more.map((name) => (
          <label key={name} className="flex items-center gap-2 py-0.5">
            <input
              type="checkbox"
              className="checkbox checkbox-sm"
              checked={chosen.includes(name)}
              onChange={(e) => onChange(e.target.checked ? [...chosen, name] : chosen.filter((c) => c !== name))}
            />
            {fieldWord(name)}
          </label>
        ))}
      </fieldset>
    </details>
  );
}

function Views({ of, params }: { of: 'devices' | 'people'; params: URLSearchParams }) {
  const views = useViews(of).data ?? [];
  const go = useNavigate();
  const [saving, setSaving] = useState(false);
  const [title, setTitle] = useState('');
  const [shared, setShared] = useState(false);
  const alters = [['views', of]];
  const remove = useWrite((id: string) => got(api.DELETE('/api/v1/views/{id}', { params: { path: { id } } })), { alters });
  const keep = useWrite(() => got(api.POST('/api/v1/views', { body: { page: of, title, query: params.toString(), shared } })), {
    alters,
    done: () => {
      setSaving(false);
      setTitle('');
    },
  });
  return (
    <>
      <details className="dropdown dropdown-end">
        <summary className="btn btn-sm">
          <Bookmark size={14} aria-hidden /> Views
        </summary>
        <div className="dropdown-content z-30 w-72 rounded border border-base-300 bg-base-100 p-2 text-sm shadow-lg">
          {views.length === 0 && <p className="quiet px-2 py-1">No views yet. Filter the list, then keep it.</p>}
          <ul>
            {views.map((v) => (
              <li key={v.id} className="flex items-center gap-1">
                <button type="button" className="flex-1 cursor-pointer rounded px-2 py-1 text-left hover:bg-base-200" onClick={() => go(`/${of}?${v.query}`)}>
                  {v.title}
                  {v.shared && <span className="quiet"> · shared by {v.owner}</span>}
                </button>
                <button
                  type="button"
                  className="btn btn-ghost btn-xs btn-square"
                  aria-label={`Take the view ${v.title} away`}
                  onClick={() => remove.mutate(v.id)}
                >
                  <X size={12} aria-hidden />
                </button>
              </li>
            ))}
          </ul>
          <button type="button" className="btn btn-sm mt-1 w-full" onClick={() => setSaving(true)}>
            Keep this list as a view
          </button>
          <Failed error={remove.error} />
        </div>
      </details>
      <Dialog open={saving} onClose={() => setSaving(false)} title="Keep this list as a view">
        <form
          className="flex flex-col gap-3"
          onSubmit={(e) => {
            e.preventDefault();
            keep.mutate();
          }}
        >
          <Field label="Name">
            <input className="input input-sm w-full" required maxLength={100} value={title} onChange={(e) => setTitle(e.target.value)} />
          </Field>
          <label className="flex items-center gap-2 text-sm">
            <input type="checkbox" className="checkbox checkbox-sm" checked={shared} onChange={(e) => setShared(e.target.checked)} /> Share it with everybody
            who signs in
          </label>
          <p className="quiet text-[13px]">Filters, order and columns are kept; the rows are always those of today.</p>
          <Failed error={keep.error} />
          <button type="submit" className="btn btn-primary btn-sm self-end" disabled={keep.isPending}>
            Keep
          </button>
        </form>
      </Dialog>
    </>
  );
}
