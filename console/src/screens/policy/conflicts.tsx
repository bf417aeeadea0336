// Two people altered the same in one policy: both values side by side, and a choice for each.
import { useState } from 'react';
import type { Merged, PolicyDoc } from '../../api/client';
import { Heads } from '../../ui/parts';

/** Puts a part of one policy in the place of another's. */
function withPart(into: PolicyDoc, from: PolicyDoc, part: string): PolicyDoc {
  if (part.startsWith('settings/')) {
    const id = part.slice('settings/'.length);
    const settings = { ...into.settings };
    if (from.settings[id] === undefined) delete settings[id];
    else settings[id] = from.settings[id];
    return { ...into, settings };
  }
  if (part === 'include' || part === 'exclude' || part === 'when') return { ...into, audience: { ...into.audience, [part]: from.audience[part] } };
  return { ...into, [part]: from[part as keyof PolicyDoc] };
}

export function MergeConflicts({ merged, theirs, onChosen }: { merged: Merged; theirs: PolicyDoc; onChosen: (doc: PolicyDoc) => void }) {
  const [mine, setMine] = useState<Record<string, boolean>>({});
  return (
    <div role="alert" className="sticky top-2 z-10 rounded border border-warning bg-base-100 px-4 py-3 text-sm shadow-md">
      <p className="font-medium text-warning">
        {merged.by} saved this policy while you typed. What only one of you altered is brought together; choose where you both altered the same.
      </p>
      <div className="mt-2 overflow-x-auto">
        <table className="table table-sm">
          <caption className="sr-only">What both of you altered</caption>
          <Heads of={['What', 'Before', 'Yours', 'Theirs']} />
          <tbody>
            {merged.conflicts.map((c) => (
              <tr key={c.part}>
                <th scope="row">{c.title ?? c.part}</th>
                <td className="id quiet">{c.base || 'nothing'}</td>
                {[true, false].map((own) => (
                  <td key={String(own)}>
                    <label className="flex items-start gap-2">
                      <input
                        type="radio"
                        className="radio radio-sm"
                        name={`conflict-${c.part}`}
                        checked={mine[c.part] === own}
                        onChange={() => setMine({ ...mine, [c.part]: own })}
                      />
                      <span className="id">{(own ? c.mine : c.theirs) || 'taken out'}</span>
                    </label>
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <button
        type="button"
        className="btn btn-sm mt-2"
        disabled={merged.conflicts.some((c) => mine[c.part] === undefined)}
        onClick={() => onChosen(merged.conflicts.reduce((doc, c) => (mine[c.part] ? doc : withPart(doc, theirs, c.part)), merged.body))}
      >
        Keep what is chosen
      </button>
    </div>
  );
}
