// A file as a value: chosen or dropped, read by the service, and shown with what is in it.
import { AlertTriangle, Download, FileCheck2, FilePlus } from 'lucide-react';
import { useRef, useState } from 'react';
import { Refusal, type Cell, type FileValue, type StoredFile } from '../api/client';
import { addFile, queries, useFile, useFiles } from '../api/queries';
import type { Shape } from './shape';
import { Fact, Failed, Id } from './parts';
import { count, number } from './words';

const wanted: Record<string, string> = {
  certificate: 'a certificate or a chain, PEM or DER; never a private key',
  'application-rules': 'a rule file of application control (JSON)',
  application: 'an application: a zipped bundle or its property list, a Debian package, a .desktop entry or a Windows executable',
  any: 'any file',
};

/** Sends a file that was chosen, and offers to take an expired certificate when that was meant. */
export function useAddFile(content: string, onKept: (k: StoredFile) => void) {
  const [busy, setBusy] = useState(false);
  const [error, setError] = useState<unknown>();
  const [kept, setKept] = useState<StoredFile>();
  const last = useRef<File | undefined>(undefined);
  const send = async (file: File, acceptExpired: boolean) => {
    setBusy(true);
    setError(undefined);
    last.current = file;
    try {
      const k = await addFile(file, content, acceptExpired);
      queries.setQueryData(['file', k.sha256], k);
      void queries.invalidateQueries({ queryKey: ['files'] });
      setKept(k);
      onKept(k);
    } catch (e) {
      setError(e);
    }
    setBusy(false);
  };
  const expired = error instanceof Refusal && !!error.problem.faults?.some((f) => f.code === 'wrong-content' && f.found?.includes('expired on'));
  return {
    busy,
    error,
    kept,
    expired,
    add: (input: HTMLInputElement) => {
      const file = input.files?.[0];
      input.value = '';
      if (file) void send(file, false);
    },
    drop: (file: File) => void send(file, false),
    acceptExpired: () => last.current && void send(last.current, true),
  };
}

/** Each certificate of a file in PEM as a file of its own; none where there are not several. */
async function splitChain(file: File): Promise<File[]> {
  if (file.size > 1 << 20) return [];
  const blocks = (await file.text()).match(/-----BEGIN CERTIFICATE-----[\s\S]*?-----END CERTIFICATE-----/g) ?? [];
  if (blocks.length < 2) return [];
  const base = file.name.replace(/\.[^.]*$/, '');
  return blocks.map((block, i) => new File([block + '\n'], `${base}-${i + 1}.pem`));
}

type Certificate = NonNullable<StoredFile['reading']['certificates']>[number];

/** What a certificate is, in words. */
function rankOf(c: Certificate): string {
  if (c.authority) return c.self_signed ? 'a root authority' : 'an intermediate authority';
  return 'no authority';
}

/**
 * Adds the certificates of a chain one by one, for a column that holds authorities. Those that the column takes are given to onKept, of
 * the others it is said what they are. It gives false where the file is no chain.
 */
export function useAddChain(store: 'roots' | 'intermediates' | undefined, onKept: (kept: StoredFile[]) => void) {
  const [left, setLeft] = useState<string[]>([]);
  const [error, setError] = useState<unknown>();
  const add = async (file: File): Promise<boolean> => {
    setLeft([]);
    setError(undefined);
    const parts = store ? await splitChain(file) : [];
    if (parts.length === 0) return false;
    try {
      const kept = await Promise.all(parts.map((part) => addFile(part, 'certificate', false)));
      const of = (k: StoredFile) => k.reading.certificates![0]!;
      const fits = (k: StoredFile) => of(k).authority && of(k).self_signed === (store === 'roots');
      for (const k of kept) queries.setQueryData(['file', k.sha256], k);
      void queries.invalidateQueries({ queryKey: ['files'] });
      setLeft(kept.filter((k) => !fits(k)).map((k) => `${of(k).subject} is ${rankOf(of(k))}`));
      onKept(kept.filter(fits));
    } catch (e) {
      setError(e);
    }
    return true;
  };
  return { add, left, error };
}

export function FileControl({
  of: d,
  value,
  onChange,
  label,
  disabled,
}: {
  of: Shape;
  value: FileValue | undefined;
  onChange: (v: Cell) => void;
  label: string;
  disabled?: boolean;
}) {
  const input = useRef<HTMLInputElement>(null);
  const content = d.content ?? 'any';
  const adding = useAddFile(content, (k) => onChange({ file: k.sha256, name: k.name, size: k.size }));
  const chosen = value?.file ? value : undefined;
  const kept = useFile(chosen?.file);
  return (
    <div
      className="flex max-w-2xl flex-col gap-1.5"
      onDragOver={(e) => !disabled && e.preventDefault()}
      onDrop={(e) => {
        e.preventDefault();
        const file = e.dataTransfer.files[0];
        if (file && !disabled) adding.drop(file);
      }}
    >
      {kept.data && <Contents of={kept.data} />}
      <Failed error={kept.error} />
      {!disabled && (
        <span className="flex flex-wrap items-center gap-2">
          <button type="button" className="btn btn-sm" disabled={adding.busy} onClick={() => input.current?.click()}>
            <FilePlus size={14} aria-hidden /> {adding.busy ? 'Reading …' : chosen ? 'Another file' : 'Choose a file'}
          </button>
          <KeptFiles content={content} label={label} onPick={(k) => onChange({ file: k.sha256, name: k.name, size: k.size })} />
          <span className="quiet text-[13px]">{wanted[content]}</span>
        </span>
      )}
      <input ref={input} type="file" className="sr-only" tabIndex={-1} aria-label={label} onChange={(e) => adding.add(e.target)} />
      <Failed error={adding.error} />
      {adding.expired && (
        <button type="button" className="btn btn-warning btn-sm self-start" onClick={adding.acceptExpired}>
          Take it although it has expired
        </button>
      )}
    </div>
  );
}

/** Files that somebody added already, to be used again. */
export function KeptFiles({ content, label, onPick }: { content: string; label: string; onPick: (k: StoredFile) => void }) {
  const files = useFiles(content, true).data ?? [];
  if (files.length === 0) return null;
  return (
    <select
      aria-label={`${label}: use a file that is kept`}
      className="select select-sm w-52"
      value=""
      onChange={(e) => {
        const chosen = files.find((f) => f.sha256 === e.target.value);
        if (chosen) onPick(chosen);
      }}
    >
      <option value="">or one that is kept …</option>
      {files.map((f) => (
        <option key={f.sha256} value={f.sha256}>
          {f.reading.certificates?.[0]?.subject ?? f.reading.rules?.title ?? f.reading.application?.name ?? f.name}
        </option>
      ))}
    </select>
  );
}

const day = (at: string) => at.slice(0, 10);

/** What was read out of a file. */
export function Contents({ of: k }: { of: StoredFile }) {
  const r = k.reading;
  return (
    <div className="rounded border border-base-300 bg-base-200/50 px-3 py-2 text-[13px]">
      <p className="flex flex-wrap items-center gap-x-2">
        <FileCheck2 size={14} aria-hidden className="text-success" />
        <strong className="font-medium">{k.name}</strong>
        <span className="quiet">
          {number(k.size)} bytes, added by {k.by}
        </span>
        <a className="link inline-flex items-center gap-1" href={`/api/v1/files/${k.sha256}/content`} download={k.name}>
          <Download size={12} aria-hidden /> fetch
        </a>
      </p>
      {r.certificates?.map((c) => (
        <dl key={c.sha256} className="mt-1.5 grid grid-cols-[6.5rem_1fr] gap-x-2">
          <Fact name={c.authority ? 'authority' : 'certificate'}>
            {c.subject}
            {c.self_signed ? ' (self-signed)' : ''}
          </Fact>
          {!c.self_signed && <Fact name="issued by">{c.issuer}</Fact>}
          <Fact name="valid">
            {day(c.not_before)} to {day(c.not_after)}
          </Fact>
          <Fact name="key">{c.key}</Fact>
          <Fact name="fingerprint">
            <Id copy>{c.sha256}</Id>
          </Fact>
        </dl>
      ))}
      {r.rules && (
        <dl className="mt-1.5 grid grid-cols-[6.5rem_1fr] gap-x-2">
          <Fact name="rule set">
            {r.rules.title} <Id copy>{r.rules.id}</Id>
          </Fact>
          <Fact name="rules">
            {count(r.rules.rules.length, 'rule')}; what none matches: {r.rules.otherwise}
          </Fact>
          <dt className="sr-only">each</dt>
          <dd className="col-span-2 mt-1">
            <ul className="max-h-40 overflow-auto">
              {r.rules.rules.slice(0, 50).map((rule) => (
                <li key={rule.id}>
                  {rule.action} <span className="id">{rule.path ?? rule.signer?.name ?? rule.sha256?.slice(0, 16)}</span> {rule.title}
                </li>
              ))}
            </ul>
          </dd>
        </dl>
      )}
      {r.application && (
        <dl className="mt-1.5 grid grid-cols-[6.5rem_1fr] gap-x-2">
          <Fact name="application">
            {r.application.name} {r.application.version}
          </Fact>
          <Fact name="identifier">
            <Id copy>{r.application.identifier}</Id>
          </Fact>
          <Fact name="signed by">
            {r.application.signer || 'nobody named'} ({r.application.signed})
          </Fact>
          <Fact name="read from">
            {r.application.source}, for {r.application.platform}
          </Fact>
        </dl>
      )}
      {r.warnings?.map((w) => (
        <p key={w} className="mt-1 flex items-start gap-1 text-warning">
          <AlertTriangle size={13} aria-hidden className="mt-0.5 shrink-0" /> {w}
        </p>
      ))}
    </div>
  );
}
