// What is typed of an alarm rule, and what of it is sent: each kind has fields of its own.

import type { Consequences, FormulaSet, RuleKind, RuleSet } from '../../api/model';
import { NO_CONSEQUENCES } from '../../parts/argument';
import { numberOf, textOf } from '../../parts/form';
import { hasDeadband, hasLevel, isLimit } from '../../parts/rule-kinds';

export interface RuleValues {
  name: string;
  kind: RuleKind;
  level: string;
  /** The limit comes from a formula. */
  follows: boolean;
  levelFormula: string;
  setpoint: string;
  side: RuleSet['side'];
  window: string;
  per: RuleSet['per'];
  states: number[];
  when: string;
  /** A priority from 4 to 0, or off. */
  weight: number | 'off';
  deadband: string;
  deadbandIn: RuleSet['deadband_in'];
  on: string;
  off: string;
  onlyWhile: string;
  uncertain: RuleSet['uncertain'];
  /** The id of an alarm class; empty for none. */
  class: string;
  acknowledge: boolean;
  latch: boolean;
  if_ignored: string;
  consequences: Consequences;
  respond_min: string;
  overruled: string;
  firstOut: string;
  /** With chips in double brackets. */
  message: string;
  valuesWith: string;
  cause: string;
  action: string;
}

export function valuesOf(set: Partial<RuleSet>, formulas: Readonly<Record<string, string>> = {}): RuleValues {
  return {
    name: set.name ?? '',
    kind: set.kind ?? 'high',
    level: textOf(set.level),
    follows: Boolean(set.level_formula),
    levelFormula: formulas.level_formula ?? '',
    setpoint: formulas.setpoint ?? '',
    side: set.side ?? 'either',
    window: textOf(set.window_s ?? 60),
    per: set.per ?? 'minute',
    states: set.states ?? [],
    when: formulas.when ?? '',
    weight: set.enabled === false ? 'off' : (set.priority ?? 2),
    deadband: textOf(set.deadband ?? 0),
    deadbandIn: set.deadband_in ?? 'unit',
    on: textOf(set.on_delay_s ?? 0),
    off: textOf(set.off_delay_s ?? 0),
    onlyWhile: formulas.only_while ?? '',
    uncertain: set.uncertain ?? 'good',
    class: set.class ?? '',
    acknowledge: set.acknowledge ?? true,
    latch: set.latch ?? false,
    if_ignored: set.if_ignored ?? '',
    consequences: { ...NO_CONSEQUENCES, ...set.consequences },
    respond_min: textOf(set.respond_min),
    overruled: set.overruled ?? '',
    firstOut: set.first_out ?? '',
    message: formulas.message ?? '',
    valuesWith: formulas.values_with ?? '',
    cause: set.cause ?? '',
    action: set.action ?? '',
  };
}

/** The settings that these values come to; what does not belong to the kind is put back. `was` is the rule as it was. */
export function setOf(v: RuleValues, was: Partial<RuleSet> = {}): Partial<RuleSet> {
  const formula = (field: 'level_formula' | 'setpoint' | 'when' | 'only_while', text: string): FormulaSet | null =>
    text.trim() === '' ? null : { text, mixed: was[field]?.mixed ?? 'convert' };
  const limit = isLimit(v.kind);
  const level = hasLevel(v.kind);
  return {
    name: v.name.trim(),
    kind: v.kind,
    level: level && !(limit && v.follows) ? numberOf(v.level) : null,
    level_formula: limit && v.follows ? formula('level_formula', v.levelFormula) : null,
    setpoint: v.kind === 'deviation' ? formula('setpoint', v.setpoint) : null,
    side: v.kind === 'deviation' || v.kind === 'rate' ? v.side : 'either',
    window_s: v.kind === 'rate' ? (numberOf(v.window) ?? 0) : 60,
    per: v.kind === 'rate' ? v.per : 'minute',
    states: v.kind === 'state' ? v.states : [],
    when: v.kind === 'expression' ? formula('when', v.when) : null,
    ...(v.weight === 'off' ? { enabled: false } : { enabled: true, priority: v.weight }),
    deadband: hasDeadband(v.kind) ? (numberOf(v.deadband) ?? 0) : 0,
    deadband_in: v.deadbandIn,
    on_delay_s: numberOf(v.on) ?? 0,
    off_delay_s: v.kind === 'no_change' ? 0 : (numberOf(v.off) ?? 0),
    only_while: formula('only_while', v.onlyWhile),
    uncertain: v.uncertain,
    ...(v.class || was.class ? { class: v.class || null } : {}),
    acknowledge: v.acknowledge,
    latch: v.latch,
    if_ignored: v.if_ignored,
    consequences: v.consequences,
    respond_min: numberOf(v.respond_min),
    overruled: v.overruled,
    first_out: v.firstOut.trim(),
    ...(v.message.trim() || was.message ? { message: v.message.trim() } : {}),
    ...(v.valuesWith.trim() || was.values_with ? { values_with: v.valuesWith.trim() } : {}),
    cause: v.cause,
    action: v.action,
  };
}

/** Of a rule that is there, only what becomes different, so that the rest stays with its equipment class. */
export function changedOf(set: Partial<RuleSet>, was: RuleSet, formulas: Readonly<Record<string, string>>): Partial<RuleSet> {
  const same = (field: string, value: unknown) => {
    if (field === 'message' || field === 'values_with') return value === (formulas[field] ?? '');
    const old = was[field as keyof RuleSet];
    if (value && typeof value === 'object' && 'text' in value) return (value as FormulaSet).text === formulas[field];
    return JSON.stringify(value) === JSON.stringify(old);
  };
  return Object.fromEntries(Object.entries(set).filter(([field, value]) => !same(field, value)));
}
