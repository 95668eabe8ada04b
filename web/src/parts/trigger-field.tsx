// A condition at whose turning something is done, and which turning counts.

import { FormulaField } from './formula/formula-field';
import { EDGES, type Edge } from './trigger';
import { Choice, Field } from './ui';

interface Props {
  text: string;
  edge: Edge;
  onText: (text: string) => void;
  onEdge: (edge: Edge) => void;
  disabled: boolean;
  error: string | undefined;
}

export function TriggerField({ text, edge, onText, onEdge, disabled, error }: Props) {
  return (
    <div className="space-y-1">
      <Field label="When this" className="w-56">
        {(p) => (
          <Choice {...p} value={edge} onChange={(e) => onEdge(e.target.value as Edge)}>
            {Object.entries(EDGES).map(([one, words]) => (
              <option key={one} value={one}>
                {words}
              </option>
            ))}
          </Choice>
        )}
      </Field>
      <FormulaField
        label="Condition"
        brief
        text={text}
        mixed="convert"
        onText={onText}
        unit=""
        decimals={0}
        states={null}
        disabled={disabled}
        error={error}
      />
    </div>
  );
}
