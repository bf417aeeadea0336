// Why somebody or something is in its groups, where it is known from, and what its source did to it.
import { Check, X } from 'lucide-react';
import { Link } from 'react-router';
import type { Membership, Origin, SourceEvent } from '../api/client';
import { Sheet } from './parts';
import { count, Time } from './words';

/** The groups, each with its reasons: listed, through a member group, by which part of the rule. */
export function Memberships({ list, of }: { list: Membership[]; of: 'laptop' | 'person' }) {
  return (
    <Sheet title="Groups" aside={count(list.length, 'group')}>
      {list.length === 0 ? (
        <p className="quiet px-4 py-3 text-sm">This {of} is in no group.</p>
      ) : (
        <ul className="divide-y divide-base-300/60">
          {list.map((m) => (
            <li key={m.group} className="flex flex-col gap-1 px-4 py-2 text-sm">
              <div className="flex flex-wrap items-baseline gap-x-2">
                <Link to={`/groups/${m.group}`} className="font-medium hover:underline">
                  {m.title || m.group}
                </Link>
                <span className="quiet">
                  {[m.owner && 'through its owner', m.listed && 'listed', m.via?.length && `through ${m.via.join(', ')}`, m.rule?.length && 'by the rule']
                    .filter(Boolean)
                    .join(' · ')}
                </span>
              </div>
              {m.rule && (
                <ul className="text-[13px]">
                  {m.rule.map((part, i) => (
                    <li key={i} className="flex items-baseline gap-1.5" style={{ paddingLeft: `${part.depth}rem` }}>
                      {part.holds ? (
                        <Check size={12} className="shrink-0 translate-y-0.5 text-success" aria-label="true" />
                      ) : (
                        <X size={12} className="quiet shrink-0 translate-y-0.5" aria-label="false" />
                      )}
                      <code className={`id min-w-0 break-words ${part.holds ? '' : 'quiet'}`}>{part.source}</code>
                      {part.error && <span className="text-warning">can’t be told: {part.error}</span>}
                    </li>
                  ))}
                </ul>
              )}
            </li>
          ))}
        </ul>
      )}
    </Sheet>
  );
}

/** Where it comes from; what has left its source says so. */
export function OriginNote({ of, what }: { of?: Origin; what: string }) {
  if (!of?.left) return null;
  return (
    <div role="note" className="rounded border border-warning/50 bg-warning/8 px-4 py-2.5 text-sm">
      <p className="font-medium text-warning">
        The source{' '}
        <Link className="link" to={`/sources/${of.source}`}>
          {of.source}
        </Link>{' '}
        no longer has this {what}, since <Time at={of.left} />.
      </p>
      <p className="quiet">It is still in the estate. Whoever removes it, on the source’s page, sees first what that does.</p>
    </div>
  );
}

const whatWords: Record<string, string> = { new: 'brought', altered: 'altered', left: 'left', back: 'back again', removed: 'removed' };

export function History({ list }: { list: SourceEvent[] }) {
  if (list.length === 0) return null;
  return (
    <Sheet title="From its source">
      <ul className="divide-y divide-base-300/60 text-sm">
        {list.slice(0, 15).map((e, i) => (
          <li key={i} className="px-4 py-1.5">
            <div className="flex justify-between gap-3">
              <span>
                {whatWords[e.what] ?? e.what} <span className="quiet">by {e.source}</span>
              </span>
              <span className="quiet text-[13px]">
                <Time at={e.at} />
              </span>
            </div>
            {e.fields?.map((f) => (
              <div key={f.field} className="quiet text-[13px]">
                {f.field}: {f.from ? <s>{f.from}</s> : 'nothing'} → {f.to ?? 'nothing'}
              </div>
            ))}
          </li>
        ))}
      </ul>
    </Sheet>
  );
}
