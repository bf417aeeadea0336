// A choice between a few ways to go on, each a card with a name and what it means. They are radio buttons: arrow keys move between them.
import { useId } from 'react';

export interface Choice<T extends string> {
  id: T;
  word: string;
  hint: string;
}

export function ChoiceCards<T extends string>({
  label,
  choices,
  value,
  onChange,
  className,
}: {
  label: string;
  choices: Choice<T>[];
  value: T | undefined;
  onChange: (id: T) => void;
  className: string; // how many stand beside each other
}) {
  const name = useId();
  return (
    <fieldset className={`grid gap-2 ${className}`}>
      <legend className="sr-only">{label}</legend>
      {choices.map((c) => (
        <label
          key={c.id}
          className="sheet relative flex cursor-pointer flex-col px-3 py-2 text-sm hover:bg-base-200 has-checked:border-primary has-checked:bg-primary/6 has-focus-visible:outline-2 has-focus-visible:outline-primary"
        >
          <input type="radio" name={name} className="sr-only" aria-label={c.word} checked={c.id === value} onChange={() => onChange(c.id)} />
          <span className="block font-medium">{c.word}</span>
          <span className="quiet text-[13px]">{c.hint}</span>
        </label>
      ))}
    </fieldset>
  );
}
