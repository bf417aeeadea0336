// One search for everything, opened by / or Ctrl-K.
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { api, got } from '../api/client';
import { keys, useChanges, useGroups, usePolicies, useSettingSearch, useUnits, useWho } from '../api/queries';
import { places } from '../places';
import { useAnnounced } from '../ui/announce';
import { Dialog } from '../ui/parts';
import { count, number } from '../ui/words';

export function Finder({ open, onClose }: { open: boolean; onClose: () => void }) {
  return (
    <Dialog open={open} onClose={onClose} title="Find" wide>
      <Search onClose={onClose} />
    </Dialog>
  );
}

function Search({ onClose }: { onClose: () => void }) {
  const [words, setWords] = useState('');
  const [at, setAt] = useState(0);
  const go = useNavigate();
  const q = words.trim();
  const devices = useQuery({
    queryKey: [...keys.devices, 'find', q],
    queryFn: async () => (await got(api.GET('/api/v1/devices', { params: { query: { q, limit: 30 } } }))).items,
    enabled: q.length > 1,
  });
  const policies = usePolicies().data?.items ?? [];
  const changes = useChanges().data ?? [];
  const search = useSettingSearch(q);
  const settings = search.isPlaceholderData ? [] : (search.data ?? []); // not what answered the words before
  const units = useUnits().data ?? [];
  const groups = useGroups().data ?? [];
  const rights = useWho().data?.rights ?? [];
  const [most, setMost] = useState(6);
  const lower = q.toLowerCase();
  const fits = (...texts: (string | undefined)[]) => texts.join(' ').toLowerCase().includes(lower);
  /** What begins with the words comes before what only has them. */
  const first = <T extends { id: string; title?: string }>(list: T[]) =>
    [...list].sort((a, b) => Number(b.id.toLowerCase().startsWith(lower)) - Number(a.id.toLowerCase().startsWith(lower)));
  const kinds: { kind: string; hits: { to: string; text: string; id: string }[] }[] = q
    ? [
        {
          kind: 'page',
          hits: places
            .filter((p) => rights.includes(p.right ?? 'read') && p.word.toLowerCase().startsWith(lower))
            .map((p) => ({ to: p.to, text: p.word, id: p.to })),
        },
        { kind: 'setting', hits: settings.map((s) => ({ to: `/dictionary/${s.id}`, text: s.title ?? s.id, id: s.id })) },
        {
          kind: 'policy',
          hits: first(policies.filter((p) => fits(p.id, p.title, p.why))).map((p) => ({ to: `/policies/${p.id}`, text: p.title || p.id, id: p.id })),
        },
        {
          kind: 'group',
          hits: first(groups.filter((g) => fits(g.id, g.title))).map((g) => ({ to: `/groups/${g.id}`, text: g.title || g.id, id: g.id })),
        },
        { kind: 'unit', hits: first(units.filter((u) => fits(u.id, u.title))).map((u) => ({ to: `/units/${u.id}`, text: u.title || u.id, id: u.id })) },
        { kind: 'device', hits: (devices.data ?? []).map((d) => ({ to: `/devices/${d.id}`, text: d.owner_name || 'no owner', id: d.id })) },
        { kind: 'change', hits: changes.filter((c) => fits(c.id, c.title)).map((c) => ({ to: `/changes/${c.id}`, text: c.title, id: c.id })) },
      ]
    : [];
  const all = kinds.flatMap(({ kind, hits }) => hits.map((h, i) => ({ kind, ...h, i })));
  // A whole id or title is what was meant; what begins with the words comes next. Only the first of each kind are shown.
  const exact = all.filter((h) => h.id.toLowerCase() === lower || h.text.toLowerCase() === lower);
  const begins = (h: (typeof all)[number]) => h.id.toLowerCase().startsWith(lower) || h.text.toLowerCase().startsWith(lower);
  const rest = all.filter((h) => h.i < most && !exact.includes(h));
  const found = [...exact, ...rest.filter(begins), ...rest.filter((h) => !begins(h))];
  const more = all.length - found.length;
  useAnnounced(q && !search.isFetching && !devices.isFetching ? (all.length ? `${count(all.length, 'hit')} for ${q}.` : `Nothing fits ${q}.`) : '', 600);
  const pick = (to: string | undefined) => {
    if (!to) return;
    onClose();
    setTimeout(() => void go(to)); // once the dialog is closed: closing gives the focus back, and the page's heading has to get it after that
  };
  return (
    <div className="flex flex-col gap-3">
      <input
        autoFocus
        role="combobox"
        aria-expanded={found.length > 0}
        aria-controls="found"
        aria-label="Find a page, setting, policy, group, unit, device or change"
        aria-activedescendant={found[at] ? `hit-${at}` : undefined}
        className="input w-full"
        placeholder="A setting by what it does, a policy, a group, a unit, a device, a change, a page"
        value={words}
        onChange={(e) => {
          setWords(e.target.value.replace(/^\//, '')); // the key that opened this may still be on its way
          setAt(0);
          setMost(6);
        }}
        onKeyDown={(e) => {
          if (e.key === 'ArrowDown' || e.key === 'ArrowUp') {
            e.preventDefault();
            setAt((i) => Math.max(0, Math.min(found.length - 1, i + (e.key === 'ArrowDown' ? 1 : -1))));
          } else if (e.key === 'Enter') pick(found[at]?.to);
        }}
      />
      <ul id="found" role="listbox" aria-label="Found" className="min-h-24">
        {q && found.length === 0 && !search.isFetching && <li className="quiet px-2 py-1 text-sm">Nothing fits ‘{q}’. Try fewer or other words.</li>}
        {found.map((f, i) => (
          <li
            key={f.kind + f.id}
            id={`hit-${i}`}
            role="option"
            aria-selected={i === at}
            className={`grid cursor-pointer grid-cols-[5rem_1fr_auto] gap-3 rounded px-2 py-1.5 text-sm ${i === at ? 'bg-primary/10' : 'hover:bg-base-200'}`}
            onClick={() => pick(f.to)}
          >
            <span className="quiet">{f.kind}</span>
            <span>{f.text}</span>
            <span className="id quiet">{f.id}</span>
          </li>
        ))}
      </ul>
      {q && all.length > 0 && (
        <p className="quiet flex items-center gap-3 text-[13px]">
          {count(all.length, 'hit')}
          {more > 0 && (
            <button type="button" className="link cursor-pointer" onClick={() => setMost(most + 20)}>
              Show {number(Math.min(more, 20))} more
            </button>
          )}
        </p>
      )}
    </div>
  );
}
