// One of a few ways in which something is done, with what the chosen one means beside it.

import { Choice, Field } from './ui';

export interface Way<T extends string> {
  on: T;
  title: string;
  /** What it means, in a sentence. */
  words: string;
}

interface Props<T extends string> {
  label: string;
  ways: readonly Way<T>[];
  value: T;
  onPick: (way: T) => void;
}

export function WayField<T extends string>({ label, ways, value, onPick }: Props<T>) {
  return (
    <div className="grid grid-cols-[13rem_minmax(0,1fr)] items-start gap-3">
      <Field label={label}>
        {(p) => (
          <Choice {...p} value={value} onChange={(e) => onPick(e.target.value as T)}>
            {ways.map(({ on, title }) => (
              <option key={on} value={on}>
                {title}
              </option>
            ))}
          </Choice>
        )}
      </Field>
      <p className="mt-5 text-sm text-soft">{ways.find(({ on }) => on === value)?.words}</p>
    </div>
  );
}
