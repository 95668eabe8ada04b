// The four plain limits of a tag, edited together: an empty level is no limit. What takes its limit from a formula is edited as a
// rule of its own.

import { useRef, useState } from 'react';
import { newId } from '../api/client';
import type { Item, LimitKind, RuleSet } from '../api/model';
import { commit, type Edit } from '../api/queries';
import { numberOf, textOf, useForm } from '../parts/form';
import { ListField } from '../parts/picker';
import { Pips } from '../parts/pips';
import { useReading } from '../parts/reading';
import { PRIORITY_WORDS, RULE_WORDS } from '../parts/text';
import { Button, ChangedElsewhere, Choice, Field, FormTrouble, Input, Tick } from '../parts/ui';

const KINDS: LimitKind[] = ['high_high', 'high', 'low', 'low_low'];
const USUAL_PRIORITY: Record<LimitKind, number> = { high_high: 3, high: 2, low: 2, low_low: 3 };

interface Row {
  level: string;
  priority: number;
  deadband: string;
  on: string;
  off: string;
  acknowledge: boolean;
  latch: boolean;
  cause: string;
  action: string;
}

type Rows = Record<LimitKind, Row>;

function rowOf(kind: LimitKind, rule: RuleSet | undefined): Row {
  return {
    // A limit of the equipment class that is not wanted here is switched off.
    level: rule?.class_rule && !rule.enabled ? '' : textOf(rule?.level),
    priority: rule?.priority ?? USUAL_PRIORITY[kind],
    deadband: textOf(rule?.deadband ?? 0),
    on: textOf(rule?.on_delay_s ?? 0),
    off: textOf(rule?.off_delay_s ?? 0),
    acknowledge: rule?.acknowledge ?? true,
    latch: rule?.latch ?? false,
    cause: rule?.cause ?? '',
    action: rule?.action ?? '',
  };
}

const FIELDS: Record<string, string> = {
  level: '',
  priority: 'Priority: ',
  deadband: 'Deadband: ',
  on_delay_s: 'On-delay: ',
  off_delay_s: 'Off-delay: ',
};

const plain = (rules: readonly Item<'rule'>[], kind: LimitKind) => rules.find((r) => r.set.kind === kind && !r.set.name);
const follows = (rules: readonly Item<'rule'>[], kind: LimitKind) => Boolean(plain(rules, kind)?.set.level_formula);

/** The edits that lead from the rules there are to the rows as typed. */
export function limitEdits(tag: string, rules: readonly Item<'rule'>[], rows: Rows): { kind: LimitKind; edit: Edit }[] {
  const edits = (kind: LimitKind): Edit[] => {
    const row = rows[kind];
    const rule = plain(rules, kind);
    const level = numberOf(row.level);
    if (level === null && rule?.set.class_rule) {
      return rule.set.enabled ? [{ op: 'patch', kind: 'rule', id: rule.id, set: { enabled: false } }] : [];
    }
    if (level === null) return rule ? [{ op: 'delete', kind: 'rule', id: rule.id }] : [];
    if (rule && JSON.stringify(rowOf(kind, rule.set)) === JSON.stringify(row)) return [];
    const set = {
      level,
      priority: row.priority,
      deadband: numberOf(row.deadband) ?? 0,
      on_delay_s: numberOf(row.on) ?? 0,
      off_delay_s: numberOf(row.off) ?? 0,
      acknowledge: row.acknowledge,
      latch: row.latch,
      cause: row.cause,
      action: row.action,
    };
    const again = rule?.set.class_rule && !rule.set.enabled ? { enabled: true } : {};
    const changed = Object.entries({ ...set, ...again }).filter(
      ([field, value]) => value !== rule?.set[field as keyof typeof set],
    );
    return [
      rule
        ? { op: 'patch', kind: 'rule', id: rule.id, set: Object.fromEntries(changed) }
        : { op: 'create', kind: 'rule', id: newId(), set: { tag, kind, ...set } },
    ];
  };
  return KINDS.filter((kind) => !follows(rules, kind)).flatMap((kind) => edits(kind).map((edit) => ({ kind, edit })));
}

interface Props {
  tag: Item<'tag'>;
  rules: Item<'rule'>[];
  seen: number;
  disabled: boolean;
}

export function LimitSheet({ tag, rules, seen, disabled }: Props) {
  const initial = Object.fromEntries(KINDS.map((k) => [k, rowOf(k, plain(rules, k)?.set)])) as Rows;
  const form = useForm(initial, [], { follow: true, draft: `limits ${tag.id}` });
  const { names } = useReading(tag.set, true);
  const [open, setOpen] = useState<LimitKind | null>(null);
  const set = (kind: LimitKind, change: Partial<Row>) => form.set(kind, { ...form.values[kind], ...change });
  const sent = useRef<LimitKind[]>([]);
  const save = () =>
    form.run((rows) => {
      const edits = limitEdits(tag.id, rules, rows);
      sent.current = edits.map((e) => e.kind);
      return commit(
        `Set limits of ${tag.title}`,
        seen,
        edits.map((e) => e.edit),
      );
    });
  const wrong = (kind: LimitKind) => form.problems.find((p) => p.field && sent.current[p.edit] === kind);
  return (
    <form
      onSubmit={(e) => {
        e.preventDefault();
        void save();
      }}
    >
      <div className="space-y-1">
        {KINDS.filter((kind) => !follows(rules, kind)).map((kind) => {
          const row = form.values[kind];
          const words = RULE_WORDS[kind];
          const problem = wrong(kind);
          return (
            <div key={kind}>
              <div className="flex items-center gap-1.5">
                <span className="w-14 shrink-0 text-soft">{words}</span>
                {names ? (
                  <ListField
                    label={`Limit ${words}`}
                    className="w-24 shrink-0"
                    from={[
                      ...(row.level.trim() && !names.has(Number(row.level)) ? [{ id: row.level, title: row.level }] : []),
                      ...[...names].map(([number, name]) => ({ id: String(number), title: name })),
                    ]}
                    none="none"
                    disabled={disabled}
                    value={row.level}
                    onChange={(level) => set(kind, { level })}
                  />
                ) : (
                  <Input
                    aria-label={`Limit ${words}`}
                    className="figures w-15 shrink-0 px-1.5 text-right"
                    inputMode="decimal"
                    aria-invalid={Boolean(problem)}
                    placeholder="none"
                    disabled={disabled}
                    value={row.level}
                    onChange={(e) => set(kind, { level: e.target.value })}
                  />
                )}
                {!names && <span className="w-7 shrink-0 truncate text-sm text-soft">{tag.set.unit}</span>}
                <Pips priority={row.priority} state={row.level.trim() ? 'unacknowledged' : 'acknowledged'} quiet />
                <Choice
                  aria-label={`Priority of limit ${words}`}
                  className="px-0.5 text-sm"
                  disabled={disabled || !row.level.trim()}
                  value={row.priority}
                  onChange={(e) => set(kind, { priority: Number(e.target.value) })}
                >
                  {[4, 3, 2, 1, 0].map((p) => (
                    <option key={p} value={p}>
                      {PRIORITY_WORDS[p]}
                    </option>
                  ))}
                </Choice>
              </div>
              {problem && (
                <p role="alert" className="ml-15.5 text-sm text-act4">
                  {FIELDS[problem.field] ?? ''}
                  {problem.message}
                </p>
              )}
              <ChangedElsewhere form={form} field={kind} what={`limit ${words}`} />
              {row.level.trim() !== '' && (
                <button
                  type="button"
                  aria-expanded={open === kind}
                  className="ml-15.5 block text-left text-sm text-teal hover:underline"
                  onClick={() => setOpen(open === kind ? null : kind)}
                >
                  {open === kind ? 'Less' : `deadband ${row.deadband}, delays ${row.on} and ${row.off} s …`}
                </button>
              )}
              {open === kind && (
                <div className="mt-1 mb-2 grid grid-cols-3 gap-x-2 gap-y-1.5 rounded bg-band p-2">
                  {(
                    [
                      ['deadband', 'Deadband'],
                      ['on', 'On-delay, s'],
                      ['off', 'Off-delay, s'],
                    ] as const
                  ).map(([field, label]) => (
                    <Field key={field} label={label}>
                      {(p) => (
                        <Input
                          {...p}
                          className="figures text-right"
                          disabled={disabled}
                          value={row[field]}
                          onChange={(e) => set(kind, { [field]: e.target.value })}
                        />
                      )}
                    </Field>
                  ))}
                  <div className="col-span-3 space-y-0.5">
                    <Tick
                      label="Needs to be acknowledged"
                      checked={row.acknowledge}
                      disabled={disabled}
                      onChange={(acknowledge) => set(kind, { acknowledge })}
                    />
                    <Tick
                      label="Latched: holds until somebody resets it"
                      checked={row.latch}
                      disabled={disabled}
                      onChange={(latch) => set(kind, { latch })}
                    />
                  </div>
                  {(
                    [
                      ['cause', 'Likely cause'],
                      ['action', 'What to do'],
                    ] as const
                  ).map(([field, label]) => (
                    <Field key={field} label={label} className="col-span-3">
                      {(p) => (
                        <Input
                          {...p}
                          disabled={disabled}
                          value={row[field]}
                          onChange={(e) => set(kind, { [field]: e.target.value })}
                        />
                      )}
                    </Field>
                  ))}
                </div>
              )}
            </div>
          );
        })}
      </div>
      <FormTrouble form={KINDS.some(wrong) ? { ...form, other: undefined } : form} className="mt-1 text-sm" />
      <Button kind="main" type="submit" className="mt-2" disabled={disabled || !form.dirty || form.busy}>
        Save limits
      </Button>
    </form>
  );
}
