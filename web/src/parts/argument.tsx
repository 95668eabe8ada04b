// The priority of a rule, argued for: how grave it is where nobody acts, and how soon somebody must.

import { useQuery } from '@tanstack/react-query';
import { http, take } from '../api/client';
import { CONCERNS, type Consequences } from '../api/model';
import { CONCERN_WORDS, LEVEL_WORDS, useGuide } from './guide';
import { Pips } from './pips';
import { PRIORITY_WORDS } from './text';
import { Button, Choice, Field, Input } from './ui';

export interface Argument {
  if_ignored: string;
  consequences: Consequences;
  respond_min: string;
  overruled: string;
}

export const NO_CONSEQUENCES: Consequences = { safety: 0, environment: 0, production: 0, quality: 0, equipment: 0 };

interface Props {
  argument: Argument;
  /** The priority that the rule has; undefined where it is off. */
  priority: number | undefined;
  disabled?: boolean;
  error: (...fields: string[]) => string | undefined;
  onChange: (change: Partial<Argument>) => void;
  onPriority: (priority: number) => void;
}

export function ArgumentFields({ argument, priority, disabled, error, onChange, onPriority }: Props) {
  const { consequences, respond_min, if_ignored, overruled } = argument;
  const meanings = useGuide()?.guide.meanings;
  const within = Number(respond_min.replace(',', '.'));
  const asked = { consequences, respond_min: within };
  const given = useQuery({
    queryKey: ['items', 'argued', asked],
    enabled: respond_min.trim() !== '' && Number.isFinite(within),
    placeholderData: (before) => before,
    queryFn: () => take(http.POST('/api/rules/argued', { body: asked as never })),
  }).data?.priority;
  const argued = respond_min.trim() === '' ? undefined : given;
  const differs = argued !== undefined && priority !== undefined && argued !== priority;
  return (
    <fieldset aria-label="Priority argued for" disabled={disabled} className="space-y-2">
      <Field label="What happens where nobody acts" error={error('if_ignored')}>
        {(p) => <Input {...p} value={if_ignored} onChange={(e) => onChange({ if_ignored: e.target.value })} />}
      </Field>
      <div className="flex flex-wrap items-start gap-2">
        {CONCERNS.map((concern) => (
          <Field key={concern} label={CONCERN_WORDS[concern]} error={error(`consequences.${concern}`)} className="w-24">
            {(p) => (
              <Choice
                {...p}
                className="w-full"
                title={meanings?.[concern]?.[consequences[concern] - 1]}
                value={consequences[concern]}
                onChange={(e) => onChange({ consequences: { ...consequences, [concern]: Number(e.target.value) } })}
              >
                {LEVEL_WORDS.map((level, i) => (
                  <option key={level} value={i} title={meanings?.[concern]?.[i - 1]}>
                    {level}
                  </option>
                ))}
              </Choice>
            )}
          </Field>
        ))}
        <Field label="Act within, min" error={error('respond_min')} className="w-24">
          {(p) => (
            <Input
              {...p}
              className="figures text-right"
              inputMode="decimal"
              placeholder="not argued"
              value={respond_min}
              onChange={(e) => onChange({ respond_min: e.target.value })}
            />
          )}
        </Field>
      </div>
      {argued !== undefined && (
        <p className="flex items-center gap-2">
          <Pips priority={argued} state="acknowledged" quiet />
          {argued === 0
            ? 'By the guide no alarm is due: nothing happens where nobody acts.'
            : `The guide gives ${argued} · ${PRIORITY_WORDS[argued]}.`}
          {differs && !disabled && (
            <Button kind="quiet" className="h-6" onClick={() => onPriority(argued)}>
              Take {argued}
            </Button>
          )}
        </p>
      )}
      {(differs || overruled || error('overruled')) && (
        <Field label="Why this rule has another priority" error={error('overruled')}>
          {(p) => <Input {...p} value={overruled} onChange={(e) => onChange({ overruled: e.target.value })} />}
        </Field>
      )}
    </fieldset>
  );
}
