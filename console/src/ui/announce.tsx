// What a screen reader is told: one whole sentence for each thing that happened, in one place.
import { useEffect, useState } from 'react';

let tell: ((text: string) => void) | undefined;

/** Has a screen reader say a sentence, when it is through with what it says. */
export function announce(text: string) {
  tell?.(text);
}

/** The region that is read out. There is one, in the frame. */
export function Announcer() {
  const [said, setSaid] = useState({ text: '', n: 0 });
  useEffect(() => {
    tell = (text) => setSaid((was) => ({ text, n: was.n + 1 }));
    return () => {
      tell = undefined;
    };
  }, []);
  return (
    <div role="status" className="sr-only" data-announcer>
      {/* The same sentence twice is read twice: the element is another one. */}
      <span key={said.n}>{said.text}</span>
    </div>
  );
}

/** Says a sentence once it has stayed as it is for a moment: not while somebody types. What stands there at first is not said. */
export function useAnnounced(text: string, after = 1200) {
  const [first] = useState(text);
  useEffect(() => {
    if (!text || text === first) return;
    const timer = setTimeout(() => announce(text), after);
    return () => clearTimeout(timer);
  }, [text, first, after]);
}
