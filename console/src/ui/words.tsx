// The one map from states to words, icons and tones, and how values and times are written.
import { AlertTriangle, ArrowDownToDot, Ban, Check, CircleDashed, Clock, Eye, GitFork, Minus, Undo2, Waves } from 'lucide-react';
import type { ReactNode } from 'react';
import { isFile, type AlsoSet, type Row, type Value } from '../api/client';

type Tone = 'good' | 'wait' | 'decide' | 'bad' | 'quiet';

const tones: Record<Tone, string> = { good: 'text-success', wait: 'text-info', decide: 'text-warning', bad: 'text-error', quiet: 'quiet' };

interface Shown {
  word: string;
  tone: Tone;
  icon: ReactNode;
}

const plainStatus = (word: string): Shown => ({ word, tone: 'quiet', icon: null });

const statuses: Record<string, Shown> = {
  applied: { word: 'in force', tone: 'good', icon: <Check size={14} /> },
  pending: { word: 'pending', tone: 'wait', icon: <Clock size={14} /> },
  failed: { word: 'failed', tone: 'bad', icon: <AlertTriangle size={14} /> },
  drifted: { word: 'altered', tone: 'decide', icon: <AlertTriangle size={14} /> },
  conflict: { word: 'conflict', tone: 'decide', icon: <GitFork size={14} /> },
  unsupported: { word: 'not supported', tone: 'quiet', icon: <Ban size={14} /> },
  unset: { word: 'left as is', tone: 'quiet', icon: <Minus size={14} /> },
  set: { word: 'set', tone: 'good', icon: <Check size={14} /> },
  none: { word: 'not sent', tone: 'quiet', icon: <CircleDashed size={14} /> },
  draft: { word: 'draft', tone: 'quiet', icon: <CircleDashed size={14} /> },
  active: { word: 'active', tone: 'good', icon: <Check size={14} /> },
  disabled: { word: 'disabled', tone: 'quiet', icon: <ArrowDownToDot size={14} /> },
  retired: { word: 'retired', tone: 'quiet', icon: <ArrowDownToDot size={14} /> },
  open: { word: 'open', tone: 'wait', icon: <CircleDashed size={14} /> },
  'in-review': { word: 'in review', tone: 'decide', icon: <Eye size={14} /> },
  'rolling-out': { word: 'rolling out', tone: 'wait', icon: <Waves size={14} /> },
  'taken-back': { word: 'taken back', tone: 'quiet', icon: <Undo2 size={14} /> },
  published: { word: 'published', tone: 'good', icon: <Check size={14} /> },
  discarded: { word: 'discarded', tone: 'quiet', icon: <Minus size={14} /> },
};

/** A state as word and icon; the tone only repeats what the word says. */
export function Status({ of, title }: { of: string; title?: string }) {
  const s = statuses[of] ?? plainStatus(of);
  return (
    <span className={`inline-flex items-center gap-1 whitespace-nowrap text-[13px] ${tones[s.tone]}`} title={title}>
      <span aria-hidden>{s.icon}</span>
      {s.word}
    </span>
  );
}

const fates: Record<string, string> = {
  won: 'in effect',
  clashing: 'conflicts',
  outer: 'overridden closer',
  'lower-priority': 'overridden by a higher priority',
  weaker: 'overridden by a stricter value',
  'locked-out': 'overridden by a lock',
  'ruled-out': 'overridden by a ruling',
  excepted: 'overridden by an exception',
  detached: 'not inherited',
  'enforced-elsewhere': 'overridden by a policy',
};
export const fateWord = (fate: string) => fates[fate] ?? fate;

const hows: Record<string, string> = {
  closest: 'closest to the laptop',
  strictest: 'the strictest',
  merge: 'all lists combined',
  common: 'only entries in every list',
  ruling: 'by a ruling',
  exception: 'by an exception',
  forced: 'forced by another setting',
};
export const howWord = (how?: string) => (how ? (hows[how] ?? how) : '');

/** On how many laptops another policy's entry does what to the one that is looked at. */
export function meetingText(a: AlsoSet): string {
  const parts: [number, string][] = [
    [a.beside.conflict, 'conflicts with this on'],
    [a.beside.over, 'overrides this on'],
    [a.beside.under, 'overridden by this on'],
    [a.beside.both, a.relation === 'adds' ? 'adds to this on' : 'the same value on'],
    [a.beside.neither, 'neither is in effect on'],
  ];
  const words = parts.filter(([n]) => n > 0).map(([n, word]) => `${word} ${number(n)}`);
  if (a.relation === 'repeats' && a.beside.both === 0) words.unshift('the same value');
  return words.join(', ');
}

export const isEmpty = (v: Value | undefined | null) => v === undefined || v === null;

/** A value as people read it. */
export function valueText(v: Value | undefined | null): string {
  if (v === undefined || v === null) return '–';
  if (typeof v === 'boolean') return v ? 'on' : 'off';
  if (Array.isArray(v))
    return v.length === 0 ? 'empty list' : v.map((item) => (typeof item === 'string' ? item : rowText(item))).join(typeof v[0] === 'string' ? ', ' : '; ');
  if (isFile(v)) return v.name || `file ${v.file.slice(0, 12)}`;
  return String(v) === '' ? 'empty text' : String(v);
}

const rowText = (row: Row) =>
  Object.entries(row)
    .map(([column, cell]) => `${column.replaceAll('_', ' ')} ${valueText(cell)}`)
    .join(', ');

export function ValueText({ of, className = '' }: { of: Value | undefined | null; className?: string }) {
  return <span className={`id break-words ${isEmpty(of) ? 'quiet' : ''} ${className}`}>{valueText(of)}</span>;
}

const numbers = new Intl.NumberFormat('en');
export const count = (n: number, noun: string, many = noun + 's') => `${numbers.format(n)} ${n === 1 ? noun : many}`;
export const number = (n: number) => numbers.format(n);

let clock: { shown: number; read: number; speed: number; text: string } | undefined;

/** Says what the service's clock shows, where it is not the real time; the same reading twice alters nothing. */
export function setClock(of: { now: string; speed: number } | undefined) {
  const text = of ? `${of.now} ${of.speed}` : '';
  if (text !== (clock?.text ?? '')) clock = of && { shown: Date.parse(of.now), read: Date.now(), speed: of.speed, text };
}

/** The time that the service's clock shows, in milliseconds. */
export const now = () => (clock ? clock.shown + (Date.now() - clock.read) * clock.speed : Date.now());

const relative = new Intl.RelativeTimeFormat('en', { numeric: 'auto' });
function ago(at: Date): string {
  const seconds = (at.getTime() - now()) / 1000;
  const size = Math.abs(seconds);
  if (size < 60) return 'just now';
  if (size < 3600) return relative.format(Math.round(seconds / 60), 'minute');
  if (size < 86400) return relative.format(Math.round(seconds / 3600), 'hour');
  return relative.format(Math.round(seconds / 86400), 'day');
}

/** A time, relative, with the exact one on hover. */
export function Time({ at }: { at?: string | null }) {
  if (!at) return <span className="quiet">never</span>;
  const when = new Date(at);
  return (
    <time dateTime={at} title={when.toLocaleString('en-GB')} className="whitespace-nowrap">
      {ago(when)}
    </time>
  );
}

/** An id made of a title. */
export const slug = (title: string) =>
  title
    .toLowerCase()
    .replace(/[^a-z0-9]+/g, '-')
    .replace(/^-|-$/g, '')
    .slice(0, 60);

/** When an exception ends or ended, in days from today. */
export const noticeWord = (days: number) => (days < 0 ? `over since ${count(-days, 'day')}` : days === 0 ? 'lapses today' : `lapses in ${count(days, 'day')}`);

/** A moment as people read it, in their zone. */
export const exact = (at: string | undefined) => (at ? new Date(at).toLocaleString('en-GB', { dateStyle: 'medium', timeStyle: 'short' }) : '–');
/** A moment as a field for a date and a time has it, in the reader's zone. */
export const minute = (at: Date) => new Date(at.getTime() - at.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
