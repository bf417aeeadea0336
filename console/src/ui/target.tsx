// Targets of an audience or an exception: units, groups, people and laptops, found by their names, ids or serial numbers.
import { useQuery } from '@tanstack/react-query';
import { distance } from 'fastest-levenshtein';
import { Plus } from 'lucide-react';
import { useEffect, useId, useMemo, useState, type ClipboardEvent, type ReactNode } from 'react';
import { api, got } from '../api/client';
import { keys, queries, useGroups, useUnitTree } from '../api/queries';
import { useAnnounced } from './announce';
import { useOpenChange } from './change';
import { useSettled } from './typed';
import { count } from './words';

/** Something that a policy or an exception can be for. */
export interface Target {
  target: string; // as the estate format has it: unit:labs, group:crew, person:ines.okafor, device:LT-0110 or everyone
  title: string; // by which people know it
  kind: string; // in words
  also?: string; // another name by which it is found: a serial number
}

const everyone: Target = { target: 'everyone', title: 'Everyone', kind: 'every laptop' };

/** Units and groups, by target, those of the open change too; undefined until they are known. */
function useNamed(): Target[] | undefined {
  const { change } = useOpenChange();
  const units = useUnitTree(change).data;
  const groups = useGroups(change).data;
  return useMemo(
    () =>
      units &&
      groups && [
        ...units.map((u) => ({ target: `unit:${u.id}`, title: u.title || u.id, kind: 'unit' })),
        ...groups.map((g) => ({ target: `group:${g.id}`, title: g.title || g.id, kind: g.of === 'people' ? 'group of people' : 'group of laptops' })),
      ],
    [units, groups],
  );
}

/** Laptops and people whose names or serial numbers have a text in them. */
const searchPeopleAndLaptops = (text: string) =>
  queries.fetchQuery({
    queryKey: [...keys.devices, 'targets', text],
    queryFn: async (): Promise<Target[]> => {
      const query = { q: text.replace(/^(device|person|serial):/i, ''), limit: 8 };
      if (query.q.length < 2) return [];
      const [devices, people] = await Promise.all([
        got(api.GET('/api/v1/devices', { params: { query } })),
        got(api.GET('/api/v1/people', { params: { query } })),
      ]);
      return [
        ...people.items.map((p) => ({ target: `person:${p.id}`, title: p.name || p.id, kind: 'person' })),
        ...devices.items.map((d) => ({ target: `device:${d.id}`, title: d.owner_name ? `${d.id} of ${d.owner_name}` : d.id, kind: 'laptop', also: d.serial })),
      ];
    },
  });

const idOf = (t: Target) => t.target.slice(t.target.indexOf(':') + 1);
const names = (t: Target) => [t.target, idOf(t), t.title, t.also ?? '', `serial:${t.also ?? ''}`].map((n) => n.toLowerCase());

/** Those of some targets that fit a text: those called so, then those whose name begins with it, then those that have it in them. */
function fitting(text: string, targets: Target[]): Target[] {
  const wanted = text.trim().toLowerCase();
  if (!wanted) return [];
  const rank = (t: Target) => Math.min(...names(t).map((n) => (n === wanted ? 0 : n.startsWith(wanted) ? 1 : n.includes(wanted) ? 2 : 3)));
  return targets
    .map((t) => ({ t, rank: rank(t) }))
    .filter((r) => r.rank < 3)
    .sort((a, b) => a.rank - b.rank)
    .map((r) => r.t);
}

/** The targets called by exactly a text. */
const called = (text: string, targets: Target[]) => targets.filter((t) => names(t).includes(text.trim().toLowerCase()));

/** The names nearest to what is typed, with at most two letters wrong in each five. */
function nearest(text: string, targets: Target[]): Target[] {
  const wanted = text.trim().toLowerCase();
  return targets
    .map((t) => ({ t, wrong: Math.min(...names(t).map((n) => distance(n, wanted))) }))
    .filter((d) => d.wrong <= (wanted.length * 2) / 5)
    .sort((a, b) => a.wrong - b.wrong)
    .slice(0, 3)
    .map((d) => d.t);
}

/** A target by its title, with the id beside it. */
export function TargetName({ target }: { target: string }) {
  const title = useNamed()?.find((t) => t.target === target)?.title;
  return (
    <>
      {title && title !== target && `${title} `}
      <span className={`id ${title ? 'quiet' : ''}`}>{target}</span>
    </>
  );
}

/**
 * A field for one target. Enter takes what is called as typed, or the only one that fits; otherwise it says what would fit. Nothing is
 * taken that was not named or chosen.
 * @param whole whether everyone can be named
 * @param onTake gets the target; the field is empty then
 * @param onPaste gets what is pasted; true: it is dealt with
 */
export function TargetField({
  label,
  hint,
  whole = false,
  onTake,
  onPaste,
}: {
  label: string;
  hint?: ReactNode;
  whole?: boolean;
  onTake: (target: string) => void;
  onPaste?: (text: string) => boolean;
}) {
  const [text, setText] = useState('');
  const [at, setAt] = useState(-1); // of the option that the arrow keys chose
  const [open, setOpen] = useState(false);
  const [fault, setFault] = useState<{ text: string; question?: string; meant: Target[] }>();
  const list = useId();
  const told = useId();
  const named = useNamed();
  const local = useMemo(() => [...(whole ? [everyone] : []), ...(named ?? [])], [named, whole]);
  const [waiting, setWaiting] = useState(false); // Enter was pressed before units and groups were known
  const asked = useSettled(text.trim());
  const found = useQuery({
    queryKey: [...keys.devices, 'targets-for', asked],
    queryFn: () => searchPeopleAndLaptops(asked),
    enabled: open && asked.length > 1,
  });
  const options = fitting(text, [...local, ...(found.data ?? [])]).slice(0, 12);
  const shown = open && options.length > 0;
  useAnnounced(shown ? `${count(options.length, 'name fits', 'names fit')} ${text.trim()}` : '', 600);
  const take = (t: Target) => {
    setText('');
    setAt(-1);
    setOpen(false);
    setFault(undefined);
    onTake(t.target);
  };
  const submit = async () => {
    const chosen = shown ? options[at] : undefined;
    if (chosen) return take(chosen);
    const wanted = text.trim();
    if (!wanted) return;
    if (!named) return setWaiting(true);
    const all = [...local, ...(await searchPeopleAndLaptops(wanted).catch(() => []))];
    const exact = called(wanted, all);
    const fit = exact.length > 0 ? exact : fitting(wanted, all);
    if (fit.length === 1) return take(fit[0]!);
    if (fit.length > 1) return setFault({ text: `${count(fit.length, 'name fits', 'names fit')} “${wanted}”.`, question: 'Choose:', meant: fit.slice(0, 6) });
    if (/^serial:/i.test(wanted)) return setFault({ text: `No laptop has the serial number ${wanted.slice('serial:'.length)}.`, meant: [] });
    setFault({ text: `No unit, group, person or laptop is called “${wanted}”.`, question: 'Did you mean:', meant: nearest(wanted, all) });
  };
  useEffect(() => {
    if (!waiting || !named) return;
    setWaiting(false);
    void submit();
  });
  return (
    <div className="relative flex min-w-0 flex-1 flex-col gap-1">
      <div className="join w-full">
        <input
          role="combobox"
          aria-label={label}
          aria-expanded={shown}
          aria-controls={list}
          aria-autocomplete="list"
          aria-activedescendant={shown && at >= 0 ? `${list}-${at}` : undefined}
          aria-invalid={fault ? true : undefined}
          aria-describedby={told}
          placeholder="A name, id or serial number"
          className="input input-sm join-item w-full"
          value={text}
          onPaste={(e: ClipboardEvent) => {
            if (onPaste?.(e.clipboardData.getData('text'))) e.preventDefault();
          }}
          onChange={(e) => {
            setText(e.target.value);
            setAt(-1);
            setOpen(true);
            setFault(undefined);
          }}
          onBlur={() => setOpen(false)}
          onKeyDown={(e) => {
            if (e.key === 'Enter') {
              e.preventDefault(); // a form around it is not sent
              void submit();
            } else if (e.key === 'Escape' && open) {
              e.preventDefault(); // a dialog around it stays
              setOpen(false);
            }
            if (!shown || (e.key !== 'ArrowDown' && e.key !== 'ArrowUp')) return;
            e.preventDefault();
            setAt((was) => Math.max(-1, Math.min(options.length - 1, was + (e.key === 'ArrowDown' ? 1 : -1))));
          }}
        />
        <button type="button" className="btn btn-sm join-item" aria-label={`${label}: add what is typed`} onClick={() => void submit()}>
          <Plus size={14} aria-hidden />
        </button>
      </div>
      {shown && (
        <ul
          id={list}
          role="listbox"
          aria-label="Names that fit"
          className="absolute top-9 z-30 max-h-72 w-full min-w-64 overflow-auto rounded border border-base-300 bg-base-100 py-1 text-sm shadow-lg"
        >
          {options.map((o, i) => (
            <li
              key={o.target}
              id={`${list}-${i}`}
              role="option"
              aria-selected={i === at}
              className={`flex cursor-pointer items-baseline gap-2 px-3 py-1 ${i === at ? 'bg-primary/12' : 'hover:bg-base-200'}`}
              onMouseDown={(e) => {
                e.preventDefault();
                take(o);
              }}
            >
              <span>{o.title}</span>
              <span className="id quiet flex-1 truncate">{idOf(o) === o.title ? '' : idOf(o)}</span>
              <span className="quiet text-[13px]">{o.kind}</span>
            </li>
          ))}
        </ul>
      )}
      <div id={told} className="text-[13px]">
        {hint && <span className="quiet">{hint}</span>}
        {fault && (
          <p role="alert" className="text-error">
            {fault.text} {fault.meant.length > 0 && `${fault.question} `}
            {fault.meant.map((t, i) => (
              <span key={t.target}>
                {i > 0 && ' or '}
                <button type="button" className="link cursor-pointer" onClick={() => take(t)}>
                  {t.title} ({t.target})
                </button>
              </span>
            ))}
          </p>
        )}
      </div>
    </div>
  );
}
