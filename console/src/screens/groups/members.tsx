// Who is in a group: those that it lists, and the groups that are its members.
import { X } from 'lucide-react';
import { useState } from 'react';
import { Link } from 'react-router';
import { api, got, type GroupDoc, type GroupPage } from '../../api/client';
import { useGroups } from '../../api/queries';
import { Sheet } from '../../ui/parts';
import { lines } from '../../ui/shape';
import { count, number } from '../../ui/words';

/** How many of those listed are shown at once: a group can list thousands. */
const listedShown = 60;

export function Listed({ doc, onChange }: { doc: GroupDoc; onChange: (members: string[]) => void }) {
  const members = doc.members ?? [];
  const devices = doc.of === 'devices';
  const [text, setText] = useState('');
  const [find, setFind] = useState('');
  const [unknown, setUnknown] = useState<string[]>([]);
  const found = find.trim() ? members.filter((m) => m.toLowerCase().includes(find.trim().toLowerCase())) : members;
  const add = async () => {
    const words = lines(text.replaceAll(/[,;\t]/g, '\n'));
    let taken = words;
    setUnknown([]);
    if (devices) {
      const pasted = await got(api.POST('/api/v1/audience/paste', { params: { query: {} }, body: { words } }));
      taken = pasted.devices;
      setUnknown(pasted.unknown);
    }
    onChange([...new Set([...members, ...taken])]);
    setText('');
  };
  return (
    <Sheet title="Listed" aside={count(members.length, devices ? 'laptop' : 'person', devices ? 'laptops' : 'people')}>
      <div className="flex flex-col gap-2 px-4 py-3 text-sm">
        {members.length > listedShown && (
          <label className="flex items-center gap-2">
            <span className="quiet">Find among them</span>
            <input className="input input-sm w-56" value={find} onChange={(e) => setFind(e.target.value)} />
          </label>
        )}
        <div className="flex max-h-40 flex-wrap gap-1.5 overflow-auto">
          {found.slice(0, listedShown).map((m) => (
            <span key={m} className="inline-flex items-center gap-1 rounded border border-base-300 px-2 py-0.5">
              <span className="id">{m}</span>
              <button type="button" className="cursor-pointer" aria-label={`Remove ${m}`} onClick={() => onChange(members.filter((o) => o !== m))}>
                <X size={12} aria-hidden />
              </button>
            </span>
          ))}
          {members.length === 0 && <span className="quiet">nobody</span>}
          {members.length > 0 && found.length === 0 && <span className="quiet">None of them has this in its id.</span>}
          {found.length > listedShown && <span className="quiet self-center">and {number(found.length - listedShown)} more</span>}
        </div>
        <form
          className="flex items-start gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            void add();
          }}
        >
          <textarea
            aria-label={devices ? 'Serial numbers or ids to add' : 'Ids of people to add'}
            placeholder={devices ? 'Serial numbers or ids, pasted or typed, one a line' : 'Ids of people, one a line'}
            className="textarea textarea-sm w-96 font-mono text-[13px]"
            rows={2}
            value={text}
            onChange={(e) => setText(e.target.value)}
          />
          <button type="submit" className="btn btn-sm" disabled={!text.trim()}>
            Add
          </button>
        </form>
        {unknown.length > 0 && (
          <p role="alert" className="text-[13px] text-error">
            No laptop has {count(unknown.length, 'of these serial numbers', 'of these serial numbers')}: {unknown.slice(0, 20).join(', ')}
            {unknown.length > 20 ? ' …' : ''}
          </p>
        )}
      </div>
    </Sheet>
  );
}

export function Nested({ doc, page, onChange }: { doc: GroupDoc; page?: GroupPage; onChange: (groups: string[]) => void }) {
  const all = (useGroups().data ?? []).filter((g) => g.of === doc.of && g.id !== doc.id);
  const groups = doc.groups ?? [];
  return (
    <Sheet title="Member groups" aside="their members are members here">
      <div className="flex flex-col gap-2 px-4 py-3 text-sm">
        {groups.map((id) => (
          <div key={id} className="flex flex-col gap-0.5">
            <div className="flex items-center gap-2">
              <Link to={`/groups/${id}`} className="hover:underline">
                {all.find((g) => g.id === id)?.title || id}
              </Link>
              <span className="quiet tabular-nums">{number(all.find((g) => g.id === id)?.members ?? 0)}</span>
              <button
                type="button"
                className="btn btn-ghost btn-xs btn-square"
                aria-label={`Remove ${id}`}
                onClick={() => onChange(groups.filter((g) => g !== id))}
              >
                <X size={12} aria-hidden />
              </button>
            </div>
            {below(page, id).map((n, i) => (
              <div key={i} className="quiet flex gap-2" style={{ paddingLeft: `${n.depth}rem` }}>
                └ <Link to={`/groups/${n.id}`}>{n.title || n.id}</Link> <span className="tabular-nums">{number(n.members)}</span>
              </div>
            ))}
          </div>
        ))}
        <select
          aria-label="Add a member group"
          className="select select-sm w-72"
          value=""
          onChange={(e) => e.target.value && onChange([...groups, e.target.value])}
        >
          <option value="">Add a member group …</option>
          {all
            .filter((g) => !groups.includes(g.id))
            .map((g) => (
              <option key={g.id} value={g.id}>
                {g.title || g.id}
              </option>
            ))}
        </select>
      </div>
    </Sheet>
  );
}

/** The groups below a member group, as the tree has them. */
function below(page: GroupPage | undefined, id: string) {
  const tree = page?.nesting ?? [];
  const at = tree.findIndex((n) => n.depth === 0 && n.id === id);
  if (at < 0) return [];
  const end = tree.findIndex((n, i) => i > at && n.depth === 0);
  return tree.slice(at + 1, end < 0 ? undefined : end);
}
