// The values that go with an event of an alarm, as they were at its instant.

import type { Schemas } from '../api/client';

export function KeptValues({ values }: { values: readonly Schemas['KeptValueView'][] }) {
  return (
    <dl className="flex flex-wrap gap-x-3">
      {values.map(({ name, text }, index) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: the same tag can be named twice, and the order does not change
        <div key={index} className="flex min-w-0 gap-1">
          <dt className="text-soft">{name}</dt>
          <dd className="figures">{text}</dd>
        </div>
      ))}
    </dl>
  );
}
