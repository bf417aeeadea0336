// Finding the next setting, by what it should do.
import { useEffect, useState } from 'react';
import type { Setting } from '../../api/client';
import { useSettingSearch } from '../../api/queries';
import { announce } from '../../ui/announce';
import { useOpenChange } from '../../ui/change';
import { Facts } from './entryrow';

export function Picker({ taken, platforms, onPick }: { taken: string[]; platforms: string[]; onPick: (d: Setting) => void }) {
  const [words, setWords] = useState('');
  const [at, setAt] = useState(0);
  const search = useSettingSearch(words, platforms, useOpenChange().change);
  const found = search.data ?? [];
  const show = words.trim() !== '';
  const pick = (d: Setting | undefined) => {
    if (!d || taken.includes(d.id)) return;
    onPick(d);
    announce(`Added: ${d.title || d.id}`);
    setWords('');
    setAt(0);
  };
  const lacks = (d: Setting) => platforms.length > 0 && !!d.supports?.length && !d.supports.some((s) => platforms.includes(s.platform));
  // What is there may still answer the words before: Enter then waits for the answer to these.
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
            if (!show) return; // nothing was asked for
            if (search.isPlaceholderData || !search.data) setWaiting(true);
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
              onMouseMove={() => setAt(i)} // not where the list appears under a mouse that rests
              onClick={() => pick(d)}
            >
              <span className="font-medium">{d.title}</span> <span className="id quiet ml-1">{d.id}</span>
              {taken.includes(d.id) ? (
                <span className="quiet ml-2">in this policy already</span>
              ) : lacks(d) ? (
                <span className="ml-2 text-warning">not on {platforms.join(', ')}</span>
              ) : d.policies.length > 0 ? (
                <span className="ml-2 text-info">set in {d.policies.join(', ')}</span>
              ) : null}
              <div className={`quiet max-w-prose text-[13px] ${i === at ? '' : 'line-clamp-1'}`}>{d.help}</div>
              {i === at && <Facts of={d} />}
            </li>
          ))}
        </ul>
      )}
    </div>
  );
}
