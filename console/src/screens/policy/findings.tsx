// What is odd about the policy as a whole, and the one step that mends it: more than one purpose, for everyone.
import { memo, useState } from 'react';
import { useNavigate } from 'react-router';
import { api, got, type Finding, type PolicyDoc } from '../../api/client';
import { keys } from '../../api/queries';
import { useWrite } from '../../api/writes';
import { useOpenChange } from '../../ui/change';
import { Dialog, Failed, Field, Id, Sheet } from '../../ui/parts';
import { slug } from '../../ui/words';
import { FindingLine } from './entryrow';
import type { Alter } from './entry';

export const FindingsSheet = memo(function FindingsSheet({
  doc,
  alter,
  findings,
  locked,
  isDirty,
}: {
  doc: PolicyDoc;
  alter: Alter;
  findings: Finding[];
  locked: boolean;
  isDirty: () => boolean;
}) {
  const [splitting, setSplitting] = useState(false);
  const wrong = findings.filter((f) => !f.warning).length;
  if (findings.length === 0) return null;
  const purposes = findings.find((f) => f.kind === 'many-purposes');
  return (
    <Sheet title="Before you go on" aside={wrong ? `${wrong} wrong` : 'worth a look'}>
      <ul className="flex flex-col gap-1 px-4 py-3">
        {findings.map((f) => (
          <li key={f.kind + f.check + f.found + f.settings.join()}>
            <FindingLine of={f}>
              {f.settings[0] && (
                <a className="link" href={`#setting-${f.settings[0]}`}>
                  show
                </a>
              )}
              {f === purposes && !locked && (
                <>
                  <button type="button" className="link cursor-pointer font-medium" onClick={() => setSplitting(true)}>
                    Split it …
                  </button>{' '}
                  or{' '}
                  <button
                    type="button"
                    className="link cursor-pointer"
                    title="The label ‘baseline’ says that it is meant to cover several areas"
                    onClick={() => alter((d) => ({ ...d, labels: [...(d.labels ?? []), 'baseline'] }))}
                  >
                    it is meant to
                  </button>
                </>
              )}
            </FindingLine>
          </li>
        ))}
      </ul>
      {purposes && <Split doc={doc} finding={purposes} open={splitting} onClose={() => setSplitting(false)} isDirty={isDirty} />}
    </Sheet>
  );
});

function Split({ doc, finding, open, onClose, isDirty }: { doc: PolicyDoc; finding: Finding; open: boolean; onClose: () => void; isDirty: () => boolean }) {
  const change = useOpenChange();
  const go = useNavigate();
  const purposes = finding.purposes ?? [];
  const [goes, setGoes] = useState(1);
  const part = purposes[goes] ?? purposes[0];
  const [title, setTitle] = useState('');
  const name = title || `${doc.title || doc.id}: ${part?.areas.join(' and ')}`;
  const split = useWrite(
    async () => {
      const id = await change.need(`Split ${doc.title || doc.id}`, [`policies/${doc.id}`]);
      await got(
        api.POST('/api/v1/changes/{id}/split', {
          params: { path: { id } },
          body: { policy: doc.id, settings: part!.settings, new_id: slug(name), title: name },
        }),
      );
    },
    {
      alters: [keys.changes],
      done: () => {
        onClose();
        go(`/policies/${slug(name)}`);
      },
    },
  );
  return (
    <Dialog open={open} onClose={onClose} title={`Split ‘${doc.title || doc.id}’`} wide>
      <p className="text-sm">
        One part stays here; the other becomes a policy of its own for the same laptops, in the open change. Nothing alters on any laptop by that.
      </p>
      <fieldset className="mt-3 flex flex-col gap-2 text-sm">
        <legend className="font-medium">What becomes a policy of its own</legend>
        {purposes.map((p, i) => (
          <label key={p.areas.join()} className="flex items-start gap-2">
            <input type="radio" className="radio radio-sm mt-0.5" name="part" checked={i === goes} onChange={() => setGoes(i)} />
            <span>
              <span className="first-letter:uppercase">{p.areas.join(' and ')}</span>: <span className="id quiet">{p.settings.join(', ')}</span>
            </span>
          </label>
        ))}
      </fieldset>
      <div className="mt-3">
        <Field label="Its name" hint={<Id>{slug(name)}</Id>}>
          <input className="input input-sm w-full" value={name} onChange={(e) => setTitle(e.target.value)} />
        </Field>
      </div>
      <Failed error={split.error} />
      <div className="mt-4 flex justify-end gap-2">
        <button type="button" className="btn btn-sm" onClick={onClose}>
          Leave it as it is
        </button>
        <button type="button" className="btn btn-primary btn-sm" disabled={isDirty() || split.isPending} onClick={() => split.mutate()}>
          Split
        </button>
      </div>
    </Dialog>
  );
}
