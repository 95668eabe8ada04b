// What a lookup asks for: which tags, what a row is, which rows stay.

import { FIGURES } from '../../../api/model';
import { FIGURE_NAMES, SPAN_UNITS } from '../../../parts/figure-names';
import { FormulaField } from '../../../parts/formula/formula-field';
import { TagChoices } from '../../../parts/tag-choices';
import { Choice, Field, Input, Tick } from '../../../parts/ui';
import type { Look } from './look';

interface Props {
  look: Look;
  onChange: (part: Partial<Look>) => void;
  /** The sentence for a field, under any of its names on the server. */
  error: (...names: string[]) => string | undefined;
}

const ROWS: Record<Look['of'], string> = {
  stored: 'what was stored',
  instants: 'even instants',
  spans: 'figures of spans',
};
const SHAPES: Record<Look['shape'], string> = { wide: 'a column for each tag', long: 'a row for each value' };
const QUALITIES: Record<Look['quality'], string> = { any: 'any', usable: 'good or uncertain', good: 'good' };
const options = (words: Record<string, string>) =>
  Object.entries(words).map(([value, name]) => (
    <option key={value} value={value}>
      {name}
    </option>
  ));

export function QuestionForm({ look, onChange, error }: Props) {
  return (
    <form aria-label="Lookup" className="space-y-4" onSubmit={(e) => e.preventDefault()}>
      <section aria-label="Tags" className="space-y-1">
        <h2 className="font-semibold">Tags</h2>
        <TagChoices
          narrow
          tags={look.tags}
          choices={look.choices}
          onTags={(tags) => onChange({ tags })}
          onChoices={(choices) => onChange({ choices })}
          error={error}
        />
      </section>
      <RowsPart look={look} onChange={onChange} error={error} />
      <section aria-label="Which rows" className="space-y-2">
        <h2 className="font-semibold">Only rows</h2>
        {look.of !== 'spans' && (
          <Field label="Of the quality" error={error('quality')}>
            {(p) => (
              <Choice {...p} value={look.quality} onChange={(e) => onChange({ quality: e.target.value as Look['quality'] })}>
                {options(QUALITIES)}
              </Choice>
            )}
          </Field>
        )}
        <div>
          <p className="text-sm text-soft">For which this holds; a tag is its value in the row</p>
          <FormulaField
            label="Condition of the rows"
            brief
            text={look.condition}
            mixed="convert"
            onText={(condition) => onChange({ condition })}
            unit=""
            decimals={0}
            states={null}
            error={error('condition')}
          />
        </div>
      </section>
    </form>
  );
}

function RowsPart({ look, onChange, error }: Props) {
  return (
    <section aria-label="Rows" className="space-y-2">
      <h2 className="font-semibold">Rows</h2>
      <Field label="A row is">
        {(p) => (
          <Choice {...p} value={look.of} onChange={(e) => onChange({ of: e.target.value as Look['of'] })}>
            {options(ROWS)}
          </Choice>
        )}
      </Field>
      <Field label="Laid out with">
        {(p) => (
          <Choice {...p} value={look.shape} onChange={(e) => onChange({ shape: e.target.value as Look['shape'] })}>
            {options(SHAPES)}
          </Choice>
        )}
      </Field>
      {look.of !== 'stored' && (
        <Field label={look.of === 'spans' ? 'Spans of' : 'Every'} error={error('rows.every.count')}>
          {(p) => (
            <span className="grid grid-cols-2 gap-3">
              <Input {...p} inputMode="numeric" value={look.count} onChange={(e) => onChange({ count: e.target.value })} />
              <Choice
                aria-label="Unit of the step"
                value={look.unit}
                onChange={(e) => onChange({ unit: e.target.value as Look['unit'] })}
              >
                {options(SPAN_UNITS)}
              </Choice>
            </span>
          )}
        </Field>
      )}
      {look.of === 'instants' && (
        <Tick label="Numbers on the line between two values" checked={look.line} onChange={(line) => onChange({ line })} />
      )}
      {look.of === 'stored' && look.shape === 'wide' && (
        <Tick label="Empty cells show what held" checked={look.held} onChange={(held) => onChange({ held })} />
      )}
      {look.of !== 'spans' && look.shape === 'wide' && (
        <Tick label="The quality beside each value" checked={look.qualities} onChange={(qualities) => onChange({ qualities })} />
      )}
      {look.of === 'spans' && (
        <fieldset>
          <legend className="text-sm text-soft">Figures of each span</legend>
          <div className="grid grid-cols-2 gap-x-3">
            {FIGURES.map((figure) => (
              <Tick
                key={figure}
                label={FIGURE_NAMES[figure]}
                checked={look.figures.includes(figure)}
                onChange={(on) =>
                  onChange({ figures: FIGURES.filter((one) => (one === figure ? on : look.figures.includes(one))) })
                }
              />
            ))}
          </div>
          {error('rows.figures') && <p className="text-sm text-act4">{error('rows.figures')}</p>}
        </fieldset>
      )}
    </section>
  );
}
