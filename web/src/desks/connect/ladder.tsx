// The test of a connection, step by step; it opens under what is tested.

import type { Schemas } from '../../api/client';
import { Button } from '../../parts/ui';

export type Step = Schemas['TestStep'];

interface Props {
  steps: readonly Step[];
  busy: boolean;
  /** Takes something that was found out into the settings. */
  onTake: (offer: NonNullable<Step['offer']>) => void;
}

export function Ladder({ steps, busy, onTake }: Props) {
  const failed = steps.some((s) => !s.passed);
  return (
    <ol aria-label="Test" aria-live="polite" className="mt-3 max-w-3xl border-l-2 border-line pl-3">
      {steps.map(({ offer, ...step }) => (
        <li key={step.name} className="flex flex-wrap items-baseline gap-x-3 py-0.5">
          <span className="min-w-20 font-semibold">{step.name}</span>
          <span className={step.passed ? 'text-teal' : 'font-semibold text-act4'}>{step.passed ? 'passed' : 'failed'}</span>
          <span className="text-soft">{step.tried}</span>
          <span className="min-w-0 flex-1 basis-60 break-words">{step.answer}</span>
          <span className="figures text-sm text-soft">{(step.took_us / 1000).toFixed(1)} ms</span>
          {step.cure && (
            <span className="flex w-full flex-wrap items-center gap-3 pl-23 text-soft">
              {step.cure}
              {offer && <Button onClick={() => onTake(offer)}>{offer.words}</Button>}
            </span>
          )}
        </li>
      ))}
      <li className="py-0.5 text-soft">
        {busy
          ? 'trying the next step…'
          : failed
            ? 'The test stops at the first step that fails; each spare address is tested separately.'
            : 'All steps passed.'}
      </li>
    </ol>
  );
}
