// The settings of a policy: by area, each with its control, its help, and where else it is set.
import { memo, useMemo } from 'react';
import type { Entry, Fault, PolicyDoc, PolicyUse, Setting } from '../../api/client';
import { blank } from '../../ui/control';
import { Sheet } from '../../ui/parts';
import { count } from '../../ui/words';
import { long, short, type Alter } from './entry';
import { EntryRow } from './entryrow';
import { Picker } from './picker';

export const Settings = memo(function Settings({
  doc,
  alter,
  dictionary,
  areas,
  use,
  faults,
  locked,
}: {
  doc: PolicyDoc;
  alter: Alter;
  dictionary: Map<string, Setting>;
  areas: string[];
  use?: PolicyUse;
  faults: Fault[];
  locked: boolean;
}) {
  const ids = Object.keys(doc.settings);
  const also = useMemo(() => Map.groupBy(use?.also_set ?? [], (a) => a.setting), [use]);
  const areaOf = (id: string) => dictionary.get(id)?.area ?? 'other';
  const place = (area: string) => (areas.includes(area) ? areas.indexOf(area) : areas.length);
  const groups = [...Map.groupBy(ids, areaOf)].sort(([a], [b]) => place(a) - place(b));
  const set = (id: string, e: Entry | undefined) =>
    alter((d) => {
      const settings = { ...d.settings };
      if (e === undefined) delete settings[id];
      else settings[id] = e;
      return { ...d, settings };
    });
  return (
    <Sheet
      title="Settings"
      aside={
        <span className="flex items-center gap-3">
          {count(ids.length, 'setting')}
          {!locked && ids.length > 0 && (
            <button type="button" className="link cursor-pointer" onClick={() => document.querySelector<HTMLElement>('[aria-label="Add a setting"]')?.focus()}>
              Add another
            </button>
          )}
        </span>
      }
    >
      {ids.length === 0 && <p className="quiet px-4 pt-3 text-sm">Nothing is set yet. Look for a setting by what it does.</p>}
      {groups.map(([area, list]) => (
        <div key={area}>
          {groups.length > 1 && <h3 className="quiet px-4 pt-3 text-[13px] font-semibold first-letter:uppercase">{area}</h3>}
          <ul>
            {list.map((id) => (
              <EntryRow
                key={id}
                id={id}
                policy={doc.id}
                entry={long(doc.settings[id]!)}
                definition={dictionary.get(id)}
                also={also.get(id) ?? []}
                findings={use?.findings.filter((f) => f.settings.includes(id)) ?? []}
                fates={use?.fates[id]}
                lacking={use?.lacking[id]}
                notKnown={use?.not_known[id]}
                forced={use?.forced[id]}
                reached={use?.reach.gets}
                faults={faults.filter((f) => f.path?.match(`/settings/${id.replaceAll('.', '\\.')}(/|$)`))}
                locked={locked}
                onChange={(e) => set(id, e && short(e))}
              />
            ))}
          </ul>
        </div>
      ))}
      {!locked && <Picker taken={ids} platforms={doc.platforms ?? []} onPick={(d) => set(d.id, blank(d))} />}
    </Sheet>
  );
});
