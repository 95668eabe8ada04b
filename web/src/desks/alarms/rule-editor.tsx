// One alarm rule: when its alarm comes and goes, how much it weighs, and what it tells the operator.

import { useQuery } from '@tanstack/react-query';
import { X } from 'lucide-react';
import { useState } from 'react';
import { http, newId, type Schemas, take } from '../../api/client';
import { CONCERNS, type Item, type RuleKind, type RuleSet } from '../../api/model';
import { commit, useItems, useMay } from '../../api/queries';
import { useGo } from '../../app/view';
import { AlarmClassField } from '../../parts/alarm-class-field';
import { ArgumentFields } from '../../parts/argument';
import { useForm } from '../../parts/form';
import { FormulaField } from '../../parts/formula/formula-field';
import { MessageField } from '../../parts/formula/message-field';
import { KeptValues } from '../../parts/kept-values';
import { Pips } from '../../parts/pips';
import { PriorityOptions } from '../../parts/priority-options';
import { useReading } from '../../parts/reading';
import { hasDeadband, isLimit, RULE_KINDS } from '../../parts/rule-kinds';
import { useSettled } from '../../parts/settled';
import { counted, RULE_WORDS } from '../../parts/text';
import { Button, Choice, Confirm, Field, FormTrouble, Input, Tick } from '../../parts/ui';
import { Value } from '../../parts/value';
import { CheckedBy } from './checked-by';
import { changedOf, type RuleValues, setOf, valuesOf } from './rule-form';
import { RuleProof } from './rule-proof';

/** What the address holds of a rule that is to be made, before the id of its tag. */
export const NEW = 'new:';

const WHAT: Record<RuleKind, string> = {
  high_high: 'the value is above the limit.',
  high: 'the value is above the limit.',
  low: 'the value is below the limit.',
  low_low: 'the value is below the limit.',
  deviation: 'the value is farther from its setpoint than the level.',
  rate: 'the value changes faster than the level.',
  state: 'the value is one of the chosen states.',
  expression: 'the condition is true.',
  bad_quality: 'there is no good value.',
  no_change: 'the value stays as it is.',
};

/** The server’s names of the fields that have a place here. */
const FIELDS = [
  ...['name', 'kind', 'level', 'level_formula', 'level_formula.text', 'setpoint', 'setpoint.text', 'window_s', 'states'],
  ...['when', 'when.text', 'priority', 'deadband', 'on_delay_s', 'off_delay_s', 'only_while', 'only_while.text'],
  ...['first_out', 'message', 'values_with', 'class', 'cause', 'action', 'if_ignored', 'respond_min', 'overruled'],
  ...CONCERNS.map((concern) => `consequences.${concern}`),
];

export function RuleEditor({ open, onClose }: { open: string; onClose: () => void }) {
  const made = open.startsWith(NEW);
  const rules = useItems('rule', { only: open }, !made);
  const rule = made ? undefined : rules.data?.items[0];
  const tagId = made ? open.slice(NEW.length) : (rule?.set.tag ?? '');
  const tags = useItems('tag', { only: tagId }, tagId !== '');
  const tag = tags.data?.items.find((t) => t.id === tagId);
  if (!made && rules.data && !rule) return <Gone what="This alarm rule no longer exists." onClose={onClose} />;
  if (tags.data && !tag) return <Gone what="The tag of this alarm rule no longer exists." onClose={onClose} />;
  if (!tag || !tags.data || (!made && !rule)) return null;
  const seen = Math.min(tags.data.revision, rules.data?.revision ?? tags.data.revision);
  return <Editor key={rule?.id ?? tag.id} rule={rule} tag={tag} seen={seen} onClose={onClose} />;
}

function Gone({ what, onClose }: { what: string; onClose: () => void }) {
  return (
    <p className="mb-3 flex items-center justify-between rounded border border-line bg-raised px-3 py-2 text-soft">
      {what}
      <Button kind="quiet" onClick={onClose}>
        Close
      </Button>
    </p>
  );
}

interface Props {
  rule: Item<'rule'> | undefined;
  tag: Item<'tag'>;
  seen: number;
  onClose: () => void;
}

function Editor({ rule, tag, seen, onClose }: Props) {
  const go = useGo();
  const engineer = useMay('engineer');
  const formulas = rule?.formulas ?? {};
  const form = useForm(valuesOf(rule?.set ?? {}, formulas), FIELDS, {
    follow: true,
    draft: `rule ${rule?.id ?? `of ${tag.id}`}`,
  });
  const [removing, setRemoving] = useState(false);
  const v = form.values;
  const known = `${tag.set.name} ${v.name || RULE_WORDS[v.kind]}`;

  async function save() {
    const set = setOf(v, rule?.set);
    if (rule) {
      const changed = changedOf(set, rule.set, formulas);
      await form.run(() =>
        commit(`Changed the alarm rule ${rule.title}`, seen, [{ op: 'patch', kind: 'rule', id: rule.id, set: changed }]),
      );
      return;
    }
    const id = newId();
    const done = await form.run(() =>
      commit(`Added the alarm rule ${known} of ${tag.title}`, seen, [
        { op: 'create', kind: 'rule', id, set: { tag: tag.id, ...set } },
      ]),
    );
    if (done) go({ rule: id });
  }

  return (
    <section
      aria-label={rule ? 'Alarm rule' : 'New alarm rule'}
      className="mb-3 max-h-[62%] min-h-48 shrink-0 overflow-auto rounded border border-teal bg-raised p-3"
    >
      <div className="flex items-center gap-3">
        <h2 className="min-w-0 truncate text-[1rem] font-semibold">{rule ? known : `New alarm rule of ${tag.set.name}`}</h2>
        <span className="min-w-0 flex-1 truncate text-soft">
          {tag.title.slice(0, -(tag.set.name.length + 1)).replaceAll('/', ' / ')}
        </span>
        <span className="shrink-0 whitespace-nowrap">
          <span className="text-sm text-soft">now </span>
          <Value no={tag.no} set={tag.set} own computed={Boolean(tag.set.formula)} />
        </span>
        <Button kind="quiet" className="px-1.5" aria-label="Close alarm rule" onClick={onClose}>
          <X className="size-4" />
        </Button>
      </div>
      {rule?.own && (
        <p className="text-sm text-soft">
          The equipment class says this rule; what you change here holds for this equipment only.
        </p>
      )}
      <form
        onSubmit={(e) => {
          e.preventDefault();
          void save();
        }}
      >
        <fieldset disabled={!engineer} className="mt-2 grid grid-cols-[minmax(0,1.15fr)_minmax(0,1fr)] gap-x-6 gap-y-2">
          <div className="space-y-2">
            <div className="flex flex-wrap items-start gap-3">
              <Field label="Kind" error={form.error('kind')} className="w-40">
                {(p) => (
                  <Choice {...p} value={v.kind} onChange={(e) => form.set('kind', e.target.value as RuleKind)}>
                    {RULE_KINDS.map((kind) => (
                      <option key={kind} value={kind}>
                        {RULE_WORDS[kind]}
                      </option>
                    ))}
                  </Choice>
                )}
              </Field>
              <Field label="Name, where there are several of a kind" error={form.error('name')} className="w-60">
                {(p) => (
                  <Input
                    {...p}
                    placeholder={RULE_WORDS[v.kind]}
                    value={v.name}
                    onChange={(e) => form.set('name', e.target.value)}
                  />
                )}
              </Field>
            </div>
            <p className="text-soft">The alarm comes when {WHAT[v.kind]}</p>
            <Test form={form} tag={tag} rule={rule} />
            <Timing form={form} tag={tag} />
            <OnlyWhile form={form} tag={tag} rule={rule} />
            <ArgumentFields
              argument={v}
              priority={v.weight === 'off' ? undefined : v.weight}
              error={form.error}
              onChange={(change) => {
                for (const [field, value] of Object.entries(change)) form.set(field as keyof RuleValues, value as never);
              }}
              onPriority={(priority) => form.set('weight', priority)}
            />
          </div>
          <div className="space-y-2">
            <div className="flex flex-wrap items-start gap-4">
              <Field label="Priority" error={form.error('priority')} className="w-44">
                {(p) => (
                  <span className="flex items-center gap-2">
                    <Pips
                      priority={v.weight === 'off' ? 1 : v.weight}
                      state={v.weight !== 'off' ? 'unacknowledged' : 'acknowledged'}
                      quiet
                    />
                    <Choice
                      {...p}
                      value={v.weight}
                      onChange={(e) => form.set('weight', e.target.value === 'off' ? 'off' : Number(e.target.value))}
                    >
                      <PriorityOptions />
                      <option value="off">off</option>
                    </Choice>
                  </span>
                )}
              </Field>
              <AlarmClassField
                value={v.class}
                error={form.error('class')}
                disabled={v.weight === 0}
                onChange={(id) => form.set('class', id)}
              />
              <div className="mt-5 space-y-0.5">
                <Tick
                  label="Needs to be acknowledged"
                  checked={v.acknowledge && v.weight !== 0}
                  disabled={v.weight === 0}
                  onChange={(on) => form.set('acknowledge', on)}
                />
                <Tick
                  label="Latched: holds until somebody resets it"
                  checked={v.latch && v.weight !== 0}
                  disabled={v.weight === 0}
                  onChange={(on) => form.set('latch', on)}
                />
              </div>
            </div>
            {v.weight === 0 && <p className="text-soft">What happens is kept in history; operators are not told.</p>}
            <Field label="First-out group: the first of it to come is marked" error={form.error('first_out')} className="w-80">
              {(p) => (
                <Input
                  {...p}
                  placeholder="none"
                  disabled={v.weight === 0}
                  value={v.firstOut}
                  onChange={(e) => form.set('firstOut', e.target.value)}
                />
              )}
            </Field>
            <Field label="What to do" error={form.error('action')}>
              {(p) => <Input {...p} value={v.action} onChange={(e) => form.set('action', e.target.value)} />}
            </Field>
            <Field label="Likely cause" error={form.error('cause')}>
              {(p) => <Input {...p} value={v.cause} onChange={(e) => form.set('cause', e.target.value)} />}
            </Field>
          </div>
          <div className="col-span-2 grid grid-cols-[minmax(0,1.15fr)_minmax(0,1fr)] gap-x-6">
            <Says form={form} tag={tag} rule={rule} />
          </div>
        </fieldset>
        <FormTrouble form={form} />
        <div className="mt-3 flex flex-wrap items-center gap-2">
          <Button kind="main" type="submit" disabled={!engineer || form.busy || !form.dirty}>
            {rule ? 'Save alarm rule' : 'Create alarm rule'}
          </Button>
          <Button disabled={!form.dirty || form.busy} onClick={form.discard}>
            Discard changes
          </Button>
          {rule && <CheckedBy rule={rule} seen={seen} disabled={!engineer || form.dirty || form.busy} />}
          <span className="flex-1" />
          <Button kind="quiet" onClick={() => go({ tag: tag.id, alarm: undefined })}>
            Open tag
          </Button>
          {rule && (
            <Button kind="quiet" onClick={() => go({ alarm: rule.id, tag: undefined })}>
              Open alarm
            </Button>
          )}
          {rule && !rule.set.class_rule && (
            <Button kind="quiet" disabled={!engineer} onClick={() => setRemoving(true)}>
              Delete…
            </Button>
          )}
        </div>
      </form>
      <RuleProof
        tag={tag}
        rule={rule}
        values={v}
        onTake={(change) => {
          for (const [field, value] of Object.entries(change)) form.set(field as keyof RuleValues, value as never);
        }}
      />
      {rule && (
        <Confirm
          open={removing}
          title={`Delete the alarm rule ${known}?`}
          action="Delete alarm rule"
          onClose={() => setRemoving(false)}
          onConfirm={() => {
            setRemoving(false);
            void form
              .run(() => commit(`Deleted the alarm rule ${rule.title}`, seen, [{ op: 'delete', kind: 'rule', id: rule.id }]))
              .then((done) => done && onClose());
          }}
        >
          Its alarm is withdrawn if it stands. Its history stays, and the revision can be undone.
        </Confirm>
      )}
    </section>
  );
}

type Form = ReturnType<typeof useForm<RuleValues>>;

interface PartProps {
  form: Form;
  tag: Item<'tag'>;
  rule?: Item<'rule'> | undefined;
}

/** What belongs to the kind of the rule. */
function Test({ form, tag, rule }: PartProps) {
  const v = form.values;
  if (isLimit(v.kind)) return <Limit form={form} tag={tag} rule={rule} />;
  switch (v.kind) {
    case 'deviation':
      return (
        <>
          <div className="flex items-start gap-3">
            <Level form={form} unit={tag.set.unit} />
            <SideField form={form} words={['on either side', 'above the setpoint', 'below the setpoint']} />
          </div>
          <Formula form={form} tag={tag} rule={rule} field="setpoint" of="setpoint" label="Setpoint" unit={tag.set.unit} />
        </>
      );
    case 'rate':
      return (
        <div className="flex flex-wrap items-start gap-3">
          <Level form={form} unit={tag.set.unit} />
          <Field label="For each" className="w-24">
            {(p) => (
              <Choice {...p} value={v.per} onChange={(e) => form.set('per', e.target.value as RuleSet['per'])}>
                <option value="second">second</option>
                <option value="minute">minute</option>
                <option value="hour">hour</option>
              </Choice>
            )}
          </Field>
          <Field label="Taken over, s" error={form.error('window_s')} className="w-24">
            {(p) => <NumberInput {...p} value={v.window} onChange={(text) => form.set('window', text)} />}
          </Field>
          <SideField form={form} words={['rising or falling', 'rising', 'falling']} />
        </div>
      );
    case 'state':
      return <States form={form} tag={tag} />;
    case 'expression':
      return <Formula form={form} tag={tag} rule={rule} field="when" of="when" label="Condition" unit="" />;
    default:
      return null;
  }
}

function Limit({ form, tag, rule }: PartProps) {
  const v = form.values;
  return (
    <>
      <div className="flex items-start gap-3">
        <Field label="Limit" className="w-44">
          {(p) => (
            <Choice {...p} value={String(v.follows)} onChange={(e) => form.set('follows', e.target.value === 'true')}>
              <option value="false">a number</option>
              <option value="true">from a tag or a formula</option>
            </Choice>
          )}
        </Field>
        {!v.follows && <Level form={form} unit={tag.set.unit} />}
      </div>
      {v.follows && (
        <Formula
          form={form}
          tag={tag}
          rule={rule}
          field="levelFormula"
          of="level_formula"
          label="Limit formula"
          unit={tag.set.unit}
        />
      )}
    </>
  );
}

function Level({ form, unit }: { form: Form; unit: string }) {
  return (
    <Field label={unit ? `Level, ${unit}` : 'Level'} error={form.error('level') ?? form.theirs('level')} className="w-28">
      {(p) => <NumberInput {...p} value={form.values.level} onChange={(text) => form.set('level', text)} />}
    </Field>
  );
}

function NumberInput({ onChange, ...rest }: { value: string; onChange: (text: string) => void }) {
  return <Input {...rest} className="figures text-right" inputMode="decimal" onChange={(e) => onChange(e.target.value)} />;
}

function SideField({ form, words: [either, above, below] }: { form: Form; words: [string, string, string] }) {
  return (
    <Field label="Which way" className="w-40">
      {(p) => (
        <Choice {...p} value={form.values.side} onChange={(e) => form.set('side', e.target.value as RuleSet['side'])}>
          <option value="either">{either}</option>
          <option value="above">{above}</option>
          <option value="below">{below}</option>
        </Choice>
      )}
    </Field>
  );
}

function States({ form, tag }: PartProps) {
  const { names } = useReading(tag.set, true);
  const chosen = form.values.states;
  const offered: [number, string][] = names
    ? [...names]
    : [
        [1, 'on'],
        [0, 'off'],
      ];
  const more = chosen.filter((state) => !offered.some(([number]) => number === state));
  const set = (state: number, on: boolean) =>
    form.set('states', on ? [...chosen, state].sort((a, b) => a - b) : chosen.filter((s) => s !== state));
  const error = form.error('states');
  return (
    <fieldset aria-label="States" className="flex flex-wrap gap-x-4 gap-y-1">
      {[...offered, ...more.map((state): [number, string] => [state, String(state)])].map(([state, name]) => (
        <Tick key={state} label={name} checked={chosen.includes(state)} onChange={(on) => set(state, on)} />
      ))}
      {error && <p className="w-full text-sm text-act4">{error}</p>}
    </fieldset>
  );
}

interface FormulaProps extends PartProps {
  /** The field here, and on the server. */
  field: 'levelFormula' | 'setpoint' | 'when' | 'onlyWhile';
  of: 'level_formula' | 'setpoint' | 'when' | 'only_while';
  label: string;
  unit: string;
}

function Formula({ form, tag, rule, field, of, label, unit }: FormulaProps) {
  return (
    <div>
      <p className="text-sm text-soft">{label}</p>
      <FormulaField
        label={label}
        brief
        text={form.values[field]}
        mixed={rule?.set[of]?.mixed ?? 'convert'}
        onText={(text) => form.set(field, text)}
        unit={unit}
        decimals={tag.set.decimals}
        states={null}
        place={tag.set.place}
        error={form.error(of, `${of}.text`) ?? form.theirs(field)}
      />
    </div>
  );
}

/** What the alarm says and what goes with its events, as it would be now. */
function Says({ form, tag, rule }: PartProps) {
  const v = form.values;
  const asked = useSettled({ tag: tag.id, ...(rule ? { rule: rule.id } : {}), set: setOf(v, rule?.set) });
  const said = useQuery({
    queryKey: ['message', asked],
    retry: false,
    refetchInterval: 3000,
    placeholderData: (before) => before,
    queryFn: async () => (await take(http.POST('/api/rules/message', { body: asked as never }))) as Schemas['RuleMessageView'],
  });
  const place = { id: tag.set.place, path: tag.title.slice(0, -(tag.set.name.length + 1)) };
  const found = said.data;
  return (
    <>
      <MessageField
        label="Message"
        text={v.message}
        onText={(text) => form.set('message', text)}
        disabled={v.weight === 0 && v.message === ''}
        error={form.error('message') ?? form.theirs('message')}
        place={place}
      >
        {said.error ? (
          <p className="text-act4">{said.error.message}</p>
        ) : (
          found && (
            <p>
              <span className="text-soft">{v.message.trim() ? 'Now it would say ' : 'Without a message it would say '}</span>“
              {found.text}” <span className="text-soft">· {counted(found.characters, 'character')}</span>
            </p>
          )
        )}
      </MessageField>
      <MessageField
        label="Values that go with its events"
        tagsAlone
        text={v.valuesWith}
        onText={(text) => form.set('valuesWith', text)}
        disabled={false}
        error={form.error('values_with') ?? form.theirs('valuesWith')}
        place={place}
      >
        {!said.error && found && found.values.length > 0 && <KeptValues values={found.values} />}
      </MessageField>
    </>
  );
}

function Timing({ form, tag }: PartProps) {
  const v = form.values;
  const still = v.kind === 'no_change';
  const banded = hasDeadband(v.kind);
  const ranged = tag.set.range_low !== null && tag.set.range_high !== null;
  return (
    <div className="flex flex-wrap items-start gap-3">
      {banded && (
        <>
          <Field label={still ? 'Must move by' : 'Deadband'} error={form.error('deadband')} className="w-24">
            {(p) => <NumberInput {...p} value={v.deadband} onChange={(text) => form.set('deadband', text)} />}
          </Field>
          <Field label="in" className="w-32">
            {(p) => (
              <Choice
                {...p}
                value={v.deadbandIn}
                onChange={(e) => form.set('deadbandIn', e.target.value as RuleSet['deadband_in'])}
              >
                <option value="unit">{tag.set.unit || 'the same unit'}</option>
                {(ranged || v.deadbandIn === 'range') && <option value="range">% of range</option>}
              </Choice>
            )}
          </Field>
        </>
      )}
      <Field label={still ? 'Within, s' : 'On-delay, s'} error={form.error('on_delay_s')} className="w-24">
        {(p) => <NumberInput {...p} value={v.on} onChange={(text) => form.set('on', text)} />}
      </Field>
      {!still && (
        <Field label="Off-delay, s" error={form.error('off_delay_s')} className="w-24">
          {(p) => <NumberInput {...p} value={v.off} onChange={(text) => form.set('off', text)} />}
        </Field>
      )}
      <Field label="Uncertain values" className="w-40">
        {(p) => (
          <Choice {...p} value={v.uncertain} onChange={(e) => form.set('uncertain', e.target.value as RuleSet['uncertain'])}>
            <option value="good">count like good ones</option>
            <option value="bad">count like bad ones</option>
          </Choice>
        )}
      </Field>
    </div>
  );
}

function OnlyWhile({ form, tag, rule }: PartProps) {
  const text = form.values.onlyWhile;
  const [asked, setAsked] = useState(text !== '');
  const set = (on: boolean) => {
    setAsked(on);
    if (!on) form.set('onlyWhile', '');
  };
  const open = asked || text !== '';
  return (
    <>
      <Tick label="Suppressed by design unless a condition holds" checked={open} onChange={set} />
      {open && <Formula form={form} tag={tag} rule={rule} field="onlyWhile" of="only_while" label="Only while" unit="" />}
    </>
  );
}
