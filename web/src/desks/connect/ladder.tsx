// The test of a connection, step by step; it opens under what is tested.

import type { Schemas } from '../../api/client';
import { Button } from '../../parts/ui';

export type Step = Schemas['TestStep'];
export type Offer = Schemas['SettingOffer'];

interface Props {
  steps: readonly Step[];
  busy: boolean;
  /** Takes something that was found out into the settings. */
  onTake: (offer: Offer) => void;
}

export function Ladder({ steps, busy, onTake }: Props) {
  const failed = steps.some((s) => !s.passed);
  return (
    <ol aria-label="Test" aria-live="polite" className="mt-3 max-w-3xl border-l-2 border-line pl-3">
      {steps.map(({ offers, ...step }) => (
        <li key={step.name} className="grid grid-cols-[9.5rem_4rem_minmax(0,1fr)_auto] gap-x-3 py-0.5">
          <span className="font-semibold">{step.name}</span>
          <span className={step.passed ? 'text-teal' : 'font-semibold text-act4'}>{step.passed ? 'passed' : 'failed'}</span>
          <span className="break-words whitespace-pre-line">
            <span className="mr-2 text-soft">{step.tried}</span>
            <span>{step.answer}</span>
          </span>
          <span className="figures text-sm text-soft">{(step.took_us / 1000).toFixed(1)} ms</span>
          {(step.cure || offers.length > 0) && (
            <span className="col-start-3 flex flex-wrap items-center gap-3 pb-1 text-soft">
              {step.cure}
              {offers.map((offer) => (
                <Button key={`${offer.field} ${offer.value}`} onClick={() => onTake(offer)}>
                  {offer.words}
                </Button>
              ))}
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
