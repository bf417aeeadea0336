// What is typed: when it is asked about, and fields whose text is in the address of the page.
import { useEffect, useRef, useState } from 'react';
import { useSearchParams } from 'react-router';

let lastAnswer = 60; // milliseconds that the service took to answer last

/** Measures how long an answer takes, for the pause before the next question. */
export async function timed<T>(answer: Promise<T>): Promise<T> {
  const began = performance.now();
  try {
    return await answer;
  } finally {
    lastAnswer = performance.now() - began;
  }
}

/** Tells whether somebody may be in the middle of a word: then another key is likely. */
const inText = () =>
  document.activeElement instanceof HTMLTextAreaElement ||
  (document.activeElement instanceof HTMLInputElement && !['checkbox', 'radio'].includes(document.activeElement.type));

/**
 * Milliseconds without a key until what is typed is asked about. Half as long as the last answer took, within bounds: a service that is
 * busy is asked less often. A choice from a list or a button is asked about at once.
 */
export const pause = () => (inText() ? Math.min(Math.max(lastAnswer / 2, 50), 250) : 0);

/** A value as it was when it had not altered for a pause. Values that are the same as JSON are the same. */
export function useSettled<T>(value: T): T {
  const [settled, setSettled] = useState(value);
  const text = JSON.stringify(value);
  useEffect(() => {
    const wait = setTimeout(() => setSettled(JSON.parse(text)), pause());
    return () => clearTimeout(wait);
  }, [text]);
  return settled;
}

/**
 * What is typed into a field that is kept elsewhere, later than it is typed: what comes back of it must not take away what was typed
 * meanwhile. Where what is kept alters by itself, by a link or by going back, the field follows.
 * @param wait milliseconds without a key until it is kept
 */
export function useTyped(kept: string, keep: (text: string) => void, wait = 0): [string, (text: string) => void] {
  const [text, setText] = useState(kept);
  const sent = useRef([kept]); // what may come back, the oldest first
  useEffect(() => {
    const at = sent.current.lastIndexOf(kept);
    sent.current = at < 0 ? [kept] : sent.current.slice(at);
    if (at < 0) setText(kept);
  }, [kept]);
  const latest = useRef(keep);
  latest.current = keep;
  const due = useRef<ReturnType<typeof setTimeout>>(undefined);
  useEffect(() => () => clearTimeout(due.current), []);
  const type = (now: string) => {
    setText(now);
    clearTimeout(due.current);
    const put = () => {
      sent.current.push(now);
      latest.current(now);
    };
    if (wait > 0) due.current = setTimeout(put, wait);
    else put();
  };
  return [text, type];
}

/** The words that a list is searched for: as the address has them, and as they stand in the field, with what to do when they are typed. */
export function useWords(): { q: string; typed: string; type: (text: string) => void } {
  const [params, setParams] = useSearchParams();
  const q = params.get('q') ?? '';
  const [typed, type] = useTyped(q, (text) => setParams(text ? { q: text } : {}, { replace: true }));
  return { q, typed, type };
}
