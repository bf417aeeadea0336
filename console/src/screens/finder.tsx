// One search for everything, opened by / or Ctrl-K.
import { useQuery } from '@tanstack/react-query';
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { api, got } from '../api/client';
import { keys, useChanges, usePolicies, useSettingSearch } from '../api/queries';
import { Dialog } from '../ui/parts';

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
    queryFn: async () => (await got(api.GET('/api/v1/devices', { params: { query: { q, limit: 6 } } }))).items,
    enabled: q.length > 1,
  });
  const policies = usePolicies().data?.items ?? [];
  const changes = useChanges().data ?? [];
  const search = useSettingSearch(q);
  const settings = search.isPlaceholderData ? [] : (search.data ?? []); // not what answered the words before
  const fits = (...texts: (string | undefined)[]) => texts.join(' ').toLowerCase().includes(q.toLowerCase());
  const found = q
    ? [
        ...settings.slice(0, 5).map((s) => ({ kind: 'setting', to: `/dictionary/${s.id}`, text: s.title ?? s.id, id: s.id })),
        ...policies
          .filter((p) => fits(p.id, p.title, p.why))
          .slice(0, 6)
          .map((p) => ({ kind: 'policy', to: `/policies/${p.id}`, text: p.title || p.id, id: p.id })),
        ...(devices.data ?? []).map((d) => ({ kind: 'device', to: `/devices/${d.id}`, text: d.owner_name || 'no owner', id: d.id })),
        ...changes
          .filter((c) => fits(c.id, c.title))
          .slice(0, 4)
          .map((c) => ({ kind: 'change', to: `/changes/${c.id}`, text: c.title, id: c.id })),
      ]
    : [];
  const pick = (to: string | undefined) => {
    if (!to) return;
    onClose();
    go(to);
  };
  return (
    <div className="flex flex-col gap-3">
      <input
        autoFocus
        role="combobox"
        aria-expanded={found.length > 0}
        aria-controls="found"
        aria-label="Find a setting, policy, device or change"
        aria-activedescendant={found[at] ? `hit-${at}` : undefined}
        className="input w-full"
        placeholder="A setting by what it does, a policy, a device, a change"
        value={words}
        onChange={(e) => {
          setWords(e.target.value.replace(/^\//, '')); // the key that opened this may still be on its way
          setAt(0);
        }}
        onKeyDown={(e) => {
          if (e.key === 'ArrowDown' || e.key === 'ArrowUp') {
            e.preventDefault();
            setAt((i) => Math.max(0, Math.min(found.length - 1, i + (e.key === 'ArrowDown' ? 1 : -1))));
          } else if (e.key === 'Enter') pick(found[at]?.to);
        }}
      />
      <ul id="found" role="listbox" aria-label="Found" className="min-h-24">
        {q && found.length === 0 && <li className="quiet px-2 py-1 text-sm">Nothing fits.</li>}
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
    </div>
  );
}
