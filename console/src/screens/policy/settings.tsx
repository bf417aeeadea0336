// The settings of a policy: found by what they do, each with its control, its help, and where else it is set.
import { Lock, LockOpen, Trash2 } from 'lucide-react';
import { useEffect, useState } from 'react';
import { Link } from 'react-router';
import type { AlsoSet, Entry, Fault, PolicyDoc, PolicyUse, Setting } from '../../api/client';
import { useSettingSearch } from '../../api/queries';
import { blank, Control } from '../../ui/control';
import { Sheet } from '../../ui/parts';
import { count, fateWord, number, relationWord, ValueText, valueText } from '../../ui/words';
import { long, short, type Alter, type LongEntry } from './entry';

export function Settings({
  doc,
  alter,
  dictionary,
  also,
  use,
  faults,
  locked,
}: {
  doc: PolicyDoc;
  alter: Alter;
  dictionary: Map<string, Setting>;
  also: AlsoSet[];
  use?: PolicyUse;
  faults: Fault[];
  locked: boolean;
}) {
  const ids = Object.keys(doc.settings);
  const areas = Map.groupBy(ids, (id) => dictionary.get(id)?.area ?? 'other');
  const set = (id: string, e: Entry | undefined) =>
    alter((d) => {
      const settings = { ...d.settings };
      if (e === undefined) delete settings[id];
      else settings[id] = e;
      return { ...d, settings };
    });
  return (
    <Sheet title="Settings" aside={count(ids.length, 'setting')}>
      {ids.length === 0 && <p className="quiet px-4 pt-3 text-sm">Nothing is set yet. Look for a setting by what it does.</p>}
      {[...areas].map(([area, list]) => (
        <div key={area}>
          {areas.size > 1 && <h3 className="quiet px-4 pt-3 text-[13px] font-semibold first-letter:uppercase">{area}</h3>}
          <ul>
            {list.map((id) => (
              <EntryRow
                key={id}
                id={id}
                entry={long(doc.settings[id]!)}
                definition={dictionary.get(id)}
                also={also.filter((a) => a.setting === id)}
                fates={use?.fates[id]}
                faults={faults.filter((f) => f.path?.includes(`/settings/${id}`))}
                locked={locked}
                onChange={(e) => set(id, e && short(e))}
              />
            ))}
          </ul>
        </div>
      ))}
      {!locked && <Picker taken={ids} onPick={(d) => set(d.id, blank(d))} />}
    </Sheet>
  );
}

function EntryRow({
  id,
  entry,
  definition: d,
  also,
  fates,
  faults,
  locked,
  onChange,
}: {
  id: string;
  entry: LongEntry;
  definition?: Setting;
  also: AlsoSet[];
  fates?: Record<string, number>;
  faults: Fault[];
  locked: boolean;
  onChange: (e: LongEntry | undefined) => void;
}) {
  const [help, setHelp] = useState(false);
  const title = d?.title ?? id;
  const clashes = also.some((a) => a.relation === 'clashes');
  return (
    <li className="border-b border-base-300/60 px-4 py-3 last:border-0">
      <div className="flex items-start justify-between gap-3">
        <button type="button" className="min-w-0 cursor-pointer text-left" aria-expanded={help} onClick={() => setHelp(!help)}>
          <span className="text-sm font-medium hover:underline">{title}</span> <span className="id quiet ml-1">{id}</span>
        </button>
        <div className="flex shrink-0 items-center gap-1">
          <button
            type="button"
            className={`btn btn-ghost btn-xs ${entry.lock ? 'text-primary' : ''}`}
            disabled={locked}
            aria-pressed={!!entry.lock}
            title={
              entry.lock
                ? 'Locked: units and groups closer to the laptop can’t override it or detach from it'
                : 'Not locked: what is set closer to the laptop overrides it'
            }
            onClick={() => onChange({ ...entry, lock: !entry.lock || undefined })}
          >
            {entry.lock ? <Lock size={13} aria-hidden /> : <LockOpen size={13} aria-hidden />} {entry.lock ? 'locked' : 'lock'}
          </button>
          <button
            type="button"
            className="btn btn-ghost btn-xs btn-square"
            disabled={locked}
            aria-label={`Take ${title} out`}
            title="Take out of the policy"
            onClick={() => onChange(undefined)}
          >
            <Trash2 size={13} aria-hidden />
          </button>
        </div>
      </div>
      {d && !help && <p className="quiet line-clamp-1 max-w-3xl text-[13px]">{d.help}</p>}
      {help && d && (
        <div className="mt-1 max-w-prose text-sm">
          <p>{d.help}</p>
          <p className="quiet mt-1 text-[13px]">
            An unmanaged laptop: {d.default === undefined ? 'not known' : valueText(d.default)}. Supported by{' '}
            {d.supports?.length ? d.supports.map((s) => s.platform + (s.from ? ` from ${s.from}` : '')).join(', ') : 'every platform'}.
            {d.effects?.length ? ` What a person notices: ${d.effects.join(', ')}.` : ''}
          </p>
        </div>
      )}
      <div className="mt-2">
        {d ? (
          <Control of={d} value={entry.value} label={title} disabled={locked} onChange={(value) => onChange({ ...entry, value })} />
        ) : (
          <ValueText of={entry.value} />
        )}
      </div>
      {faults.map((f, i) => (
        <p key={i} role="alert" className="mt-1 text-[13px] text-error">
          Found {f.found}, expected {f.expected}
        </p>
      ))}
      <div className="mt-1.5 flex flex-wrap items-center gap-x-4 gap-y-1 text-[13px]">
        {fates && (
          <span className="quiet">
            {Object.entries(fates)
              .map(([fate, n]) => `${fateWord(fate)} on ${number(n)}`)
              .join(', ')}
          </span>
        )}
        {also.length > 0 && (
          <details>
            <summary className={`cursor-pointer ${clashes ? 'font-medium text-warning' : 'text-info'}`}>
              also set in {also.length === 1 ? also[0]!.policy : `${also.length} others`}
            </summary>
            <ul className="mt-1 flex flex-col gap-0.5">
              {also.map((a) => (
                <li key={a.policy} className="flex flex-wrap gap-x-2">
                  <Link to={`/policies/${a.policy}`} className="link">
                    {a.title || a.policy}
                  </Link>
                  <ValueText of={a.value} />
                  <span className={a.relation === 'clashes' ? 'text-warning' : 'quiet'}>
                    {relationWord(a.relation)}, on {count(a.devices, 'of these laptops', 'of these laptops')}
                  </span>
                  {a.relation === 'clashes' && (
                    <Link className="link text-warning" to={`/clashes?setting=${a.setting}`}>
                      settle
                    </Link>
                  )}
                </li>
              ))}
            </ul>
          </details>
        )}
      </div>
    </li>
  );
}

function Picker({ taken, onPick }: { taken: string[]; onPick: (d: Setting) => void }) {
  const [words, setWords] = useState('');
  const [at, setAt] = useState(0);
  const search = useSettingSearch(words);
  const found = search.data ?? [];
  const show = words.trim() !== '';
  const pick = (d: Setting | undefined) => {
    if (!d || taken.includes(d.id)) return;
    onPick(d);
    setWords('');
    setAt(0);
  };
  // What stands there may still answer the words before: Enter then waits for the answer to these.
  const [waiting, setWaiting] = useState(false);
  useEffect(() => {
    if (!waiting || search.isPlaceholderData || search.isFetching) return;
    setWaiting(false);
    pick(found[0]);
  });
  return (
    <div className="border-t border-base-300/60 px-4 py-3">
      <input
        role="combobox"
        aria-expanded={show}
        aria-controls="found-settings"
        aria-label="Add a setting"
        aria-activedescendant={show && found[at] ? `found-${at}` : undefined}
        placeholder="Add a setting: say what it should do, such as “copy to usb”"
        className="input input-sm w-full max-w-xl"
        value={words}
        onChange={(e) => {
          setWords(e.target.value);
          setAt(0);
          setWaiting(false);
        }}
        onKeyDown={(e) => {
          if (e.key === 'ArrowDown' || e.key === 'ArrowUp') {
            e.preventDefault();
            setAt((i) => Math.max(0, Math.min(found.length - 1, i + (e.key === 'ArrowDown' ? 1 : -1))));
          } else if (e.key === 'Enter') {
            e.preventDefault();
            if (search.isPlaceholderData) setWaiting(true);
            else pick(found[at]);
          } else if (e.key === 'Escape') setWords('');
        }}
      />
      {show && (
        <ul
          id="found-settings"
          role="listbox"
          aria-label="Settings found"
          className="mt-1 max-w-3xl divide-y divide-base-300/60 rounded border border-base-300"
        >
          {found.length === 0 && <li className="quiet px-3 py-2 text-sm">No setting fits. Try other words for what it does.</li>}
          {found.map((d, i) => (
            <li
              key={d.id}
              id={`found-${i}`}
              role="option"
              aria-selected={i === at}
              className={`cursor-pointer px-3 py-2 text-sm ${i === at ? 'bg-primary/10' : 'hover:bg-base-200'}`}
              onMouseDown={(e) => e.preventDefault()}
              onClick={() => pick(d)}
            >
              <span className="font-medium">{d.title}</span> <span className="id quiet ml-1">{d.id}</span>
              {taken.includes(d.id) ? (
                <span className="quiet ml-2">in this policy already</span>
              ) : d.policies.length > 0 ? (
                <span className="ml-2 text-info">set in {d.policies.join(', ')}</span>
              ) : null}
              <div className="quiet line-clamp-1 text-[13px]">{d.help}</div>
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}

