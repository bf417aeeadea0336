// A new source: which kind, what it is called, how it is read. Nothing is taken from it before a dry run was looked at.
import { useState } from 'react';
import { useNavigate } from 'react-router';
import { api, got, type SourceSetUp } from '../../api/client';
import { keys } from '../../api/queries';
import { useWrite } from '../../api/writes';
import { ChoiceCards } from '../../ui/choicecards';
import { Failed, Field, Page, Sheet } from '../../ui/parts';
import { slug } from '../../ui/words';
import { begin, SetUpForm, type Kind } from './setup';

const kinds: { kind: Kind; word: string; about: string }[] = [
  {
    kind: 'csv',
    word: 'A table',
    about: 'Laptops from an inventory, or people, as CSV. You send it whenever there is a newer one, here or with zridge source send.',
  },
  {
    kind: 'ldap',
    word: 'A directory',
    about: 'People, units and groups from a directory server over LDAP. It is asked every few minutes, and compared as a whole each night.',
  },
  { kind: 'scim', word: 'A provisioning client', about: 'People and groups that another system writes here over SCIM 2.0, as they alter.' },
];

export function NewSourceScreen() {
  const [kind, setKind] = useState<Kind>();
  const [title, setTitle] = useState('');
  const [setUp, setSetUp] = useState<SourceSetUp>({});
  const go = useNavigate();
  const add = useWrite(() => got(api.POST('/api/v1/sources', { body: { id: slug(title), kind: kind!, title, set_up: setUp } })), {
    alters: [keys.sources],
    done: (s) => go(`/sources/${s.id}`),
  });
  return (
    <Page title="New source" lead="Nothing is taken from it before you have looked at a dry run">
      <ChoiceCards
        label="Kind of source"
        choices={kinds.map((k) => ({ id: k.kind, word: `${k.word} (${k.kind.toUpperCase()})`, hint: k.about }))}
        value={kind}
        className="md:grid-cols-3"
        onChange={(k) => {
          setKind(k);
          setSetUp(begin[k]);
        }}
      />
      {kind && (
        <>
          <Sheet title="About">
            <div className="px-4 py-3">
              <Field label="Name" hint={title ? `Its id will be ${slug(title)}` : 'What people call it: Inventory, Company directory …'}>
                <input className="input input-sm w-80" value={title} onChange={(e) => setTitle(e.target.value)} />
              </Field>
            </div>
          </Sheet>
          <SetUpForm kind={kind} value={setUp} onChange={setSetUp} />
          <Failed error={add.error} />
          <button type="button" className="btn btn-primary self-end" disabled={!slug(title) || add.isPending} onClick={() => add.mutate()}>
            Add the source
          </button>
        </>
      )}
    </Page>
  );
}
