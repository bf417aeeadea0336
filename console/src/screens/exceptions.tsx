// Exceptions: asked for by one, approved by another, dated; the list is by the day on which they lapse.
import { useQuery } from '@tanstack/react-query';
import { Plus } from 'lucide-react';
import { useState } from 'react';
import { useNavigate, useSearchParams } from 'react-router';
import { api, got, type Exception, type ExceptionRequest, type Setting, type Value } from '../api/client';
import { keys, queries, tryEdits, useDictionary, useExceptionRequests, useExceptions, useWho } from '../api/queries';
import { useWrite } from '../api/writes';
import { useOpenChange } from '../ui/change';
import { blank, Control } from '../ui/control';
import { ImpactView } from '../ui/impact';
import { Dialog, Empty, Failed, Field, Loading, Page, Sheet } from '../ui/parts';
import { TargetField, TargetName } from '../ui/target';
import { count, noticeWord, number, Time, ValueText } from '../ui/words';

export function ExceptionsScreen() {
  const { change } = useOpenChange();
  const list = useExceptions(change);
  const requests = useExceptionRequests();
  const [params, setParams] = useSearchParams();
  const asking = params.has('ask');
  const waiting = (requests.data ?? []).filter((r) => r.state === 'asked');
  const decided = (requests.data ?? []).filter((r) => r.state !== 'asked');
  return (
    <Page
      title="Exceptions"
      lead="Dated, approved departures: for one setting and one target this value, or none"
      actions={
        <button type="button" className="btn btn-primary btn-sm" onClick={() => setParams({ ask: '' })}>
          <Plus size={15} aria-hidden /> Request an exception
        </button>
      }
    >
      <Failed error={list.error ?? requests.error} />
      {waiting.length > 0 && (
        <Sheet title="Asked for" aside="somebody else than who asks approves">
          <ul className="divide-y divide-base-300/60">
            {waiting.map((r) => (
              <Asked key={r.exception.id} r={r} />
            ))}
          </ul>
        </Sheet>
      )}
      <Sheet title="By the day on which they lapse" aside={list.data && count(list.data.length, 'exception')}>
        {list.isPending && <Loading />}
        {list.data?.length === 0 && <Empty>No exceptions. When a laptop or a group has to differ for a while, ask for one: it ends by itself.</Empty>}
        {!!list.data?.length && (
          <div className="overflow-x-auto" tabIndex={0}>
            <table className="table table-sm">
              <caption className="sr-only">Exceptions</caption>
              <thead>
                <tr>
                  <th scope="col">Lapses</th>
                  <th scope="col">Setting</th>
                  <th scope="col">For</th>
                  <th scope="col">Value</th>
                  <th scope="col">Reason</th>
                  <th scope="col">Approved</th>
                  <th scope="col" className="text-right">
                    Laptops
                  </th>
                  <th scope="col">
                    <span className="sr-only">What can be done</span>
                  </th>
                </tr>
              </thead>
              <tbody>
                {list.data.map((x) => (
                  <Row key={x.id} x={x} />
                ))}
              </tbody>
            </table>
          </div>
        )}
      </Sheet>
      {decided.length > 0 && (
        <Sheet title="Decided requests">
          <ul className="divide-y divide-base-300/60 text-sm">
            {decided.slice(0, 20).map((r) => (
              <li key={r.exception.id} className="flex flex-wrap gap-x-3 px-4 py-1.5">
                <span className="id">{r.exception.id}</span>
                <span>{r.title || r.exception.setting}</span>
                <span className="quiet">
                  asked by {r.asked_by}, {r.state}
                  {r.decided_by ? ` by ${r.decided_by}` : ''} <Time at={r.decided_at} />
                  {r.note ? `: ${r.note}` : ''}
                </span>
              </li>
            ))}
          </ul>
        </Sheet>
      )}
      <Dialog open={asking} onClose={() => setParams({})} title="Ask for an exception" wide>
        <Ask setting={params.get('setting') ?? ''} target={params.get('target') ?? ''} onAsked={() => setParams({})} />
      </Dialog>
    </Page>
  );
}

function Row({ x }: { x: Exception }) {
  const [ending, setEnding] = useState(false);
  const tone = x.notice === 'now' ? 'font-semibold text-error' : x.notice === 'soon' ? 'font-medium text-warning' : x.notice === 'over' ? 'quiet' : '';
  return (
    <tr>
      <th scope="row" className={tone}>
        <div>{noticeWord(x.days)}</div>
        <div className="quiet text-[13px] font-normal">{x.until}</div>
      </th>
      <td>
        <div>{x.title || x.setting}</div>
        <div className="id quiet">{x.id}</div>
      </td>
      <td>
        <TargetName target={x.target} />
      </td>
      <td>{x.unset ? <span className="quiet">left to the laptop</span> : <ValueText of={x.value} />}</td>
      <td className="max-w-72">{x.reason}</td>
      <td>
        {x.approved_by}
        <div className="quiet text-[13px]">{x.approved_on}</div>
      </td>
      <td className="text-right tabular-nums">{number(x.devices)}</td>
      <td className="text-right">
        <button type="button" aria-label={`End ${x.id}`} className="btn btn-ghost btn-xs" onClick={() => setEnding(true)}>
          End
        </button>
        <Dialog open={ending} onClose={() => setEnding(false)} title={`End ${x.id}`} wide>
          <End x={x} />
        </Dialog>
      </td>
    </tr>
  );
}

/** What ending an exception does, before it goes into a change. */
function End({ x }: { x: Exception }) {
  const { id, change, retire } = useOpenChange();
  const go = useNavigate();
  const [error, setError] = useState<unknown>();
  const trial = useQuery({
    queryKey: [...keys.estate, 'ending', x.id, id ?? '', change?.version ?? 0],
    queryFn: () => tryEdits(id, [{ kind: 'exceptions', id: x.id, retire: true }]),
    retry: false,
  });
  return (
    <div className="flex flex-col gap-3 text-sm">
      <Failed error={trial.error} />
      {trial.isPending && <Loading rows={4} />}
      {trial.data?.impact && (x.days < 0 ? <p>It is over already; ending it alters nothing on laptops.</p> : <ImpactView of={trial.data.impact} />)}
      <Failed error={error} />
      <button
        type="button"
        className="btn btn-primary btn-sm self-end"
        disabled={!trial.data}
        onClick={() =>
          void retire('exceptions', x.id, `End the exception ${x.id}`)
            .then(() => queries.invalidateQueries({ queryKey: keys.estate }))
            .then(() => go('/changes'))
            .catch(setError)
        }
      >
        Put into {id ? 'the change' : 'a change'}
      </button>
    </div>
  );
}

function Asked({ r }: { r: ExceptionRequest }) {
  const who = useWho().data;
  const [open, setOpen] = useState(false);
  const [note, setNote] = useState('');
  const x = r.exception;
  const mine = who?.name === r.asked_by;
  const impact = useQuery({
    queryKey: [...keys.estate, 'request-impact', x.id],
    queryFn: () => got(api.GET('/api/v1/exception-requests/{id}/impact', { params: { path: { id: x.id } } })),
    enabled: open,
    retry: false,
  });
  const path = { id: x.id };
  const alters = [keys.estate, keys.devices];
  const decide = useWrite((approve: boolean) => got(api.POST('/api/v1/exception-requests/{id}/decision', { params: { path }, body: { approve, note } })), {
    alters,
  });
  const takeBack = useWrite(() => got(api.DELETE('/api/v1/exception-requests/{id}', { params: { path } })), { alters });
  return (
    <li className="flex flex-col gap-2 px-4 py-3 text-sm">
      <div className="flex flex-wrap items-baseline gap-x-3">
        <strong>{r.title || x.setting}</strong>
        <span>
          {x.unset ? 'left to the laptop' : <ValueText of={x.value} />} for <TargetName target={x.target} />, until {x.until}
        </span>
        <span className="quiet">
          asked by {r.asked_by} <Time at={r.asked_at} />
        </span>
      </div>
      <p>{x.reason}</p>
      <div className="flex flex-wrap items-center gap-2">
        <button type="button" className="btn btn-sm" aria-expanded={open} onClick={() => setOpen(!open)}>
          What it does
        </button>
        {mine ? (
          <>
            <span className="quiet">You asked; somebody else approves.</span>
            <button type="button" className="btn btn-ghost btn-sm" disabled={takeBack.isPending} onClick={() => takeBack.mutate()}>
              Take back
            </button>
          </>
        ) : (
          who?.rights.includes('exceptions-approve') && (
            <>
              <input
                aria-label="Note"
                placeholder="A note, for the record"
                className="input input-sm w-64"
                value={note}
                onChange={(e) => setNote(e.target.value)}
              />
              <button
                type="button"
                className="btn btn-primary btn-sm"
                disabled={!impact.data || decide.isPending}
                title={impact.data ? undefined : 'Look first at what it does'}
                onClick={() => decide.mutate(true)}
              >
                Approve and publish
              </button>
              <button type="button" className="btn btn-sm" disabled={decide.isPending} onClick={() => decide.mutate(false)}>
                Refuse
              </button>
            </>
          )
        )}
      </div>
      {open && (impact.data ? <ImpactView of={impact.data} /> : impact.error ? <Failed error={impact.error} /> : <Loading rows={3} />)}
      <Failed error={takeBack.error ?? decide.error} />
    </li>
  );
}

const inDays = (n: number) => new Date(Date.now() + n * 86_400_000).toISOString().slice(0, 10);

function Ask({ setting, target, onAsked }: { setting: string; target: string; onAsked: () => void }) {
  const known = useDictionary();
  const dictionary = known.data ?? [];
  const [id, setID] = useState(setting);
  const [to, setTo] = useState(target);
  const [unset, setUnset] = useState(false);
  const [value, setValue] = useState<Value>();
  const [until, setUntil] = useState(inDays(30));
  const [reason, setReason] = useState('');
  const d: Setting | undefined = dictionary.find((o) => o.id === id);
  const ask = useWrite(
    () =>
      got(
        api.POST('/api/v1/exception-requests', {
          body: { setting: id, target: to, until, reason, ...(unset ? { unset: true } : { value: value ?? (d && blank(d)) }) },
        }),
      ),
    { alters: [keys.estate], done: onAsked },
  );
  return (
    <form
      className="flex flex-col gap-3"
      onSubmit={(e) => {
        e.preventDefault();
        ask.mutate();
      }}
    >
      <Field label="Setting" hint={d ? d.help : 'By its id or name'}>
        <input
          list="exception-settings"
          required
          className="input input-sm w-full font-mono text-[13px]"
          value={id}
          onChange={(e) => (setID(e.target.value), setValue(undefined))}
        />
        <datalist id="exception-settings">
          {dictionary.map((o) => (
            <option key={o.id} value={o.id}>
              {o.title}
            </option>
          ))}
        </datalist>
      </Field>
      <div className="flex flex-col gap-1 text-sm">
        <span className="font-medium">For</span>
        {to ? (
          <span className="flex items-center gap-2">
            <TargetName target={to} />
            <button type="button" className="link cursor-pointer" onClick={() => setTo('')}>
              Choose another
            </button>
          </span>
        ) : (
          <TargetField label="For" hint="One laptop, person, group or unit" onTake={setTo} />
        )}
      </div>
      <label className="flex min-h-8 items-center gap-2 text-sm">
        <input type="checkbox" className="checkbox" checked={unset} onChange={(e) => setUnset(e.target.checked)} /> Leave it to the laptop: no value at all
      </label>
      {d && !unset && (
        <div className="flex flex-col gap-1 text-sm">
          <span className="font-medium">Value</span>
          <Control of={d} value={value ?? blank(d)} label="Value" onChange={setValue} />
        </div>
      )}
      <div className="grid grid-cols-2 gap-3">
        <Field label="Until, that day included">
          <input type="date" required className="input input-sm w-full" value={until} onChange={(e) => setUntil(e.target.value)} />
        </Field>
        <Field label="Reason">
          <input required className="input input-sm w-full" value={reason} onChange={(e) => setReason(e.target.value)} />
        </Field>
      </div>
      <p className="quiet text-[13px]">Nothing alters before somebody else approves. Fourteen and three days before it lapses, the overview says so.</p>
      <Failed error={ask.error} />
      <button type="submit" className="btn btn-primary btn-sm self-end" disabled={!to || known.isPending}>
        Ask
      </button>
    </form>
  );
}
