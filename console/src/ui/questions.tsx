// Questions to those who answer for policies: what was asked and answered, asking, answering.
import { useState } from 'react';
import { Link } from 'react-router';
import { api, got, type InvolvedPolicy, type Question } from '../api/client';
import { keys, queries, useWho, type Disagreement } from '../api/queries';
import { useWrite } from '../api/writes';
import { Dialog, Failed, Field } from './parts';
import { Time } from './words';

const refresh = () => queries.invalidateQueries({ queryKey: keys.estate });

export function Questions({ list }: { list: Question[] }) {
  if (list.length === 0) return null;
  return (
    <ul className="flex flex-col gap-2">
      {list.map((q) => (
        <QuestionLine key={q.id} q={q} />
      ))}
    </ul>
  );
}

export function QuestionLine({ q, about = false }: { q: Question; about?: boolean }) {
  const who = useWho().data;
  const [answering, setAnswering] = useState(false);
  const [answer, setAnswer] = useState('');
  const mayAnswer = q.state === 'open' && (who?.rights.includes('write') || q.of.includes(who?.name ?? ''));
  const path = { id: q.id };
  const send = useWrite(() => got(api.POST('/api/v1/conflict-questions/{id}/answer', { params: { path }, body: { answer } })), { done: refresh });
  const withdraw = useWrite(() => got(api.DELETE('/api/v1/conflict-questions/{id}', { params: { path } })), { done: refresh });
  return (
    <li className="rounded border border-base-300 px-3 py-2 text-sm">
      {about && (
        <p className="font-medium">
          <Link className="link-hover link" to={q.check ? `/conflicts?check=${q.check}#problems` : `/conflicts?setting=${q.setting}`}>
            {q.title || q.setting || q.check}
          </Link>{' '}
          <span className="quiet font-normal">{q.policies.join(', ')}</span>
        </p>
      )}
      <p>
        <strong>{q.by}</strong> asks {q.of.join(' and ')}, <Time at={q.at} />: <span className="whitespace-pre-line">{q.note}</span>
      </p>
      {q.state === 'answered' && (
        <p className="mt-1 border-l-2 border-success pl-2">
          <strong>{q.answered_by}</strong> <span className="quiet">answered</span> <Time at={q.answered_at} />:{' '}
          <span className="whitespace-pre-line">{q.answer}</span>
        </p>
      )}
      {q.state === 'open' && !answering && (
        <p className="mt-1 flex items-center gap-2">
          <span className="text-info">waits for an answer</span>
          {mayAnswer && (
            <button type="button" className="btn btn-xs" onClick={() => setAnswering(true)}>
              Answer
            </button>
          )}
          {q.by === who?.name && who.rights.includes('write') && (
            <button type="button" className="btn btn-ghost btn-xs" onClick={() => withdraw.mutate()}>
              Take it back
            </button>
          )}
        </p>
      )}
      {answering && q.state === 'open' && (
        <form
          className="mt-2 flex flex-col gap-2"
          onSubmit={(e) => {
            e.preventDefault();
            send.mutate();
          }}
        >
          <textarea className="textarea textarea-sm w-full" aria-label="Answer" value={answer} onChange={(e) => setAnswer(e.target.value)} />
          <button type="submit" className="btn btn-primary btn-xs self-end" disabled={!answer.trim()}>
            Send the answer
          </button>
        </form>
      )}
      <Failed error={send.error ?? withdraw.error} />
    </li>
  );
}

/** Asks those who answer for the policies; where nobody does, somebody is named. */
export function AskOwners({ of, title, involved, onClose }: { of: Disagreement; title: string; involved: InvolvedPolicy[]; onClose: () => void }) {
  const owners = [...new Set(involved.map((p) => p.owner).filter((o): o is string => !!o))];
  const [names, setNames] = useState(owners.join(', '));
  const [note, setNote] = useState('');
  const asked = names
    .split(',')
    .map((n) => n.trim())
    .filter(Boolean);
  const ask = useWrite(
    () =>
      got(
        api.POST('/api/v1/conflict-questions', {
          body: { ...(of.check ? { check: of.check } : { setting: of.setting![0]! }), policies: of.policies, of: asked, note },
        }),
      ),
    { done: () => refresh().then(onClose) },
  );
  const ownerless = involved.filter((p) => !p.owner).map((p) => p.title || p.policy);
  return (
    <Dialog open onClose={onClose} title={`Ask about ${title}`}>
      <form
        className="flex flex-col gap-4"
        onSubmit={(e) => {
          e.preventDefault();
          ask.mutate();
        }}
      >
        <Field
          label="Whom"
          hint={
            ownerless.length > 0
              ? `Nobody answers for ${ownerless.join(' and ')}: name somebody. Names are separated by commas.`
              : 'Those who answer for the policies. Names are separated by commas.'
          }
        >
          <input className="input w-full" value={names} onChange={(e) => setNames(e.target.value)} />
        </Field>
        <Field label="What is asked">
          <textarea className="textarea w-full" rows={3} value={note} onChange={(e) => setNote(e.target.value)} />
        </Field>
        <Failed error={ask.error} />
        <div className="flex justify-end gap-2">
          <button type="button" className="btn btn-sm" onClick={onClose}>
            Not now
          </button>
          <button type="submit" className="btn btn-primary btn-sm" disabled={!note.trim() || asked.length === 0 || ask.isPending}>
            Ask
          </button>
        </div>
      </form>
    </Dialog>
  );
}
