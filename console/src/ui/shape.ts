// What controls and forms share: the shape of a value, how pasted text becomes lines, the texts of a form.
import type { FormEvent } from 'react';
import type { Column, Setting } from '../api/client';

/** What a control needs to know of a setting or of a column. */
export type Shape = Pick<Setting, 'type' | 'min' | 'max' | 'measure' | 'max_length' | 'options' | 'content' | 'format'> & {
  stricter?: string;
  columns?: Column[];
  key?: string[];
};

export interface ControlProps<V> {
  of: Shape;
  value: V;
  onChange: (v: V) => void;
  label: string;
  disabled?: boolean;
}

/** The lines of a text without blanks around them, empty ones and repeats. */
export const lines = (text: string) => [
  ...new Set(
    text
      .split('\n')
      .map((l) => l.trim())
      .filter(Boolean),
  ),
];

/** The texts of a form by the names of its fields. */
export const texts = (e: FormEvent<HTMLFormElement>) => {
  e.preventDefault();
  const form = new FormData(e.currentTarget);
  return (name: string) => String(form.get(name) ?? '');
};
