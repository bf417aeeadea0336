// A new policy: a name, a kind and a reason. It reaches nobody at first.
import { useState, type FormEvent } from 'react';
import { useNavigate } from 'react-router';
import type { PolicyDoc } from '../../api/client';
import { useOpenChange } from '../../ui/change';
import { Failed, Field, Id, Page } from '../../ui/parts';

const slug = (title: string) =>
  title
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, '-')
    .replace(/^-|-$/g, '')
    .slice(0, 60);

export function NewPolicyScreen() {
  const { put, change } = useOpenChange();
  const [title, setTitle] = useState('');
  const [kind, setKind] = useState<PolicyDoc['kind']>('security');
  const [why, setWhy] = useState('');
  const [error, setError] = useState<unknown>();
  const go = useNavigate();
  const create = (e: FormEvent) => {
    e.preventDefault();
    const doc: PolicyDoc = { id: slug(title), title, kind, settings: {}, audience: {}, ...(why ? { why } : {}) };
    put('policies', doc, undefined, title)
      .then(() => go(`/policies/${doc.id}`))
      .catch(setError);
  };
  return (
    <Page title="New policy" lead="One purpose, a name and a reason. It reaches nobody until you say who gets it, and nothing is live until you publish.">
      <form onSubmit={create} className="sheet flex max-w-xl flex-col gap-4 p-5">
        <Field
          label="Name"
          hint={
            slug(title) ? (
              <>
                Id: <Id>{slug(title)}</Id>
              </>
            ) : (
              'What it is for, in a few words'
            )
          }
        >
          <input className="input w-full" required autoFocus value={title} onChange={(e) => setTitle(e.target.value)} />
        </Field>
        <Field label="Kind" hint="Units and groups that go their own way do so for one kind of policy">
          <select className="select w-full" value={kind} onChange={(e) => setKind(e.target.value as PolicyDoc['kind'])}>
            <option value="security">security</option>
            <option value="configuration">configuration</option>
            <option value="encryption">encryption</option>
          </select>
        </Field>
        <Field label="Why" hint="Who asked for it, a ticket, a rule that it follows">
          <input className="input w-full" value={why} onChange={(e) => setWhy(e.target.value)} />
        </Field>
        <Failed error={error} />
        <div className="flex items-center gap-3">
          <button type="submit" className="btn btn-primary" disabled={!slug(title)}>
            Begin
          </button>
          <span className="quiet text-sm">{change ? `It goes into the open change ‘${change.title}’.` : 'A change is opened for it.'}</span>
        </div>
      </form>
    </Page>
  );
}

