// The alarm rules of a property of an equipment class.

import { Plus, X } from 'lucide-react';
import { AlarmClassField } from '../../../parts/alarm-class-field';
import { type Argument, ArgumentFields, NO_CONSEQUENCES } from '../../../parts/argument';
import { MessageField } from '../../../parts/formula/message-field';
import { OwnFormula } from '../../../parts/formula/own-formula';
import { PriorityOptions } from '../../../parts/priority-options';
import { hasDeadband, hasLevel, isLimit, RULE_KINDS } from '../../../parts/rule-kinds';
import { RULE_WORDS } from '../../../parts/text';
import { Button, Choice, Field, Input, Tick } from '../../../parts/ui';
import { newRule, type RuleRow, statesText } from './rows';

interface Props {
  rows: RuleRow[];
  /** What messages can name: properties and parameters. */
  names: readonly string[];
  disabled: boolean;
  onChange: (rows: RuleRow[]) => void;
}

export function ClassRules({ rows, names, disabled, onChange }: Props) {
  const change = (id: string, part: Record<string, unknown>) =>
    onChange(rows.map((row) => (row.id === id ? { ...row, set: { ...row.set, ...part } } : row)));
  const message = (row: RuleRow, field: 'message' | 'values_with', label: string) => (
    <MessageField
      label={label}
      names={field === 'message' ? [...names, 'Name', 'Number'] : names}
      tagsAlone={field === 'values_with'}
      disabled={disabled}
      error={undefined}
      text={String(row.set[field] ?? '')}
      onText={(text) => change(row.id, { [field]: text })}
    />
  );
  return (
    <div>
      {rows.map((row, i) => {
        const text = (name: string, label: string, className: string) => (
          <Field label={label} className={className}>
            {(p) => (
              <Input
                {...p}
                disabled={disabled}
                value={String(row.set[name] ?? '')}
                onChange={(e) => change(row.id, { [name]: e.target.value })}
              />
            )}
          </Field>
        );
        return (
          <div key={row.id} className="mb-1 flex flex-wrap items-start gap-2">
            <Field label={`Alarm ${i + 1}`} className="w-28">
              {(p) => (
                <Choice
                  {...p}
                  disabled={disabled}
                  value={String(row.set.kind)}
                  onChange={(e) => change(row.id, { kind: e.target.value })}
                >
                  {RULE_KINDS.map((kind) => (
                    <option key={kind} value={kind}>
                      {RULE_WORDS[kind]}
                    </option>
                  ))}
                </Choice>
              )}
            </Field>
            {hasLevel(String(row.set.kind)) && text('level', 'Level', 'w-28')}
            <Field label="Priority" className="w-36">
              {(p) => (
                <Choice
                  {...p}
                  disabled={disabled}
                  value={Number(row.set.priority ?? 2)}
                  onChange={(e) => change(row.id, { priority: Number(e.target.value) })}
                >
                  <PriorityOptions />
                </Choice>
              )}
            </Field>
            {hasDeadband(String(row.set.kind)) && text('deadband', 'Deadband', 'w-20')}
            {text('on_delay_s', 'On-delay, s', 'w-20')}
            {text('off_delay_s', 'Off-delay, s', 'w-20')}
            <div className="mb-0.5 w-30 self-end">
              <Tick
                label="Acknowledge"
                checked={row.set.acknowledge !== false}
                disabled={disabled}
                onChange={(acknowledge) => change(row.id, { acknowledge })}
              />
              <Tick
                label="Latch"
                checked={row.set.latch === true}
                disabled={disabled}
                onChange={(latch) => change(row.id, { latch })}
              />
            </div>
            <OfKind row={row} names={names} disabled={disabled} change={(part) => change(row.id, part)} />
            {text('first_out', 'First-out group', 'w-28')}
            <AlarmClassField
              value={String(row.set.class ?? '')}
              error={undefined}
              disabled={disabled}
              onChange={(id) => change(row.id, { class: id || null })}
            />
            <details className="order-last w-full">
              <summary className="cursor-pointer text-teal">Priority argued for…</summary>
              <div className="mt-1 mb-2 max-w-3xl rounded bg-band p-2">
                <ArgumentFields
                  argument={argumentOf(row.set)}
                  priority={row.set.enabled === false ? undefined : Number(row.set.priority ?? 2)}
                  disabled={disabled}
                  error={() => undefined}
                  onChange={(part) => change(row.id, { ...part })}
                  onPriority={(priority) => change(row.id, { priority })}
                />
              </div>
            </details>
            <div className="order-last grid w-full grid-cols-[minmax(0,1.6fr)_minmax(0,1fr)] gap-x-4">
              {message(row, 'message', `Message of alarm ${i + 1}`)}
              {message(row, 'values_with', `Values that go with its events, alarm ${i + 1}`)}
            </div>
            {text('cause', 'Cause', 'min-w-32 flex-1')}
            {text('action', 'Action', 'min-w-32 flex-1')}
            <Button
              kind="quiet"
              className="mt-5 px-1"
              disabled={disabled}
              aria-label={`Remove alarm ${i + 1}`}
              onClick={() => onChange(rows.filter((other) => other.id !== row.id))}
            >
              <X className="size-3.5 shrink-0" />
            </Button>
          </div>
        );
      })}
      <Button kind="quiet" disabled={disabled} onClick={() => onChange([...rows, newRule()])}>
        <Plus className="size-4" /> Alarm rule
      </Button>
    </div>
  );
}

const argumentOf = (set: RuleRow['set']): Argument => ({
  if_ignored: String(set.if_ignored ?? ''),
  consequences: { ...NO_CONSEQUENCES, ...(set.consequences as object | undefined) },
  respond_min: String(set.respond_min ?? ''),
  overruled: String(set.overruled ?? ''),
});

interface OfKindProps {
  row: RuleRow;
  names: readonly string[];
  disabled: boolean;
  change: (part: Record<string, unknown>) => void;
}

/** What only some kinds of rule ask for, and the condition that every rule can have. Properties are named by own("…"). */
function OfKind({ row, names, disabled, change }: OfKindProps) {
  const { set } = row;
  const plain = (name: string, label: string, className: string, placeholder: string) => (
    <Field label={label} className={className}>
      {(p) => (
        <Input
          {...p}
          disabled={disabled}
          placeholder={placeholder}
          value={String(set[name] ?? '')}
          onChange={(e) => change({ [name]: e.target.value })}
        />
      )}
    </Field>
  );
  const formula = (name: string, label: string, placeholder: string) => {
    const written = set[name] as { text: string } | undefined;
    const put = (text: string) => change({ [name]: text === '' ? null : { ...written, text } });
    return (
      <div className="min-w-48 flex-1">
        <OwnFormula
          short
          label={label}
          text={written?.text ?? ''}
          onText={put}
          names={names}
          disabled={disabled}
          placeholder={placeholder}
        />
      </div>
    );
  };
  const side = (either: string, above: string, below: string) => (
    <Field label="Which way" className="w-36">
      {(p) => (
        <Choice
          {...p}
          disabled={disabled}
          value={String(set.side ?? 'either')}
          onChange={(e) => change({ side: e.target.value })}
        >
          <option value="either">{either}</option>
          <option value="above">{above}</option>
          <option value="below">{below}</option>
        </Choice>
      )}
    </Field>
  );
  return (
    <>
      {set.kind === 'deviation' && (
        <>
          {side('on either side', 'above', 'below')}
          {formula('setpoint', 'Setpoint', 'own("Setpoint")')}
        </>
      )}
      {set.kind === 'rate' && (
        <>
          {side('rising or falling', 'rising', 'falling')}
          <Field label="For each" className="w-24">
            {(p) => (
              <Choice
                {...p}
                disabled={disabled}
                value={String(set.per ?? 'minute')}
                onChange={(e) => change({ per: e.target.value })}
              >
                <option value="second">second</option>
                <option value="minute">minute</option>
                <option value="hour">hour</option>
              </Choice>
            )}
          </Field>
          {plain('window_s', 'Taken over, s', 'w-24', '60')}
        </>
      )}
      {set.kind === 'state' && (
        <Field label="States, by number" className="w-32">
          {(p) => (
            <Input
              {...p}
              className="figures"
              disabled={disabled}
              placeholder="2, 3"
              value={statesText(set.states)}
              onChange={(e) => change({ states: e.target.value })}
            />
          )}
        </Field>
      )}
      {set.kind === 'expression' && formula('when', 'Condition', 'own("Running") == 1')}
      {isLimit(String(set.kind)) && formula('level_formula', 'Level from', 'own("High limit")')}
      {formula('only_while', 'Only while', 'always')}
    </>
  );
}
