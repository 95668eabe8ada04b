// A call-out plan: for which alarms it is, and who is told, one after the other.

import { ChevronDown, ChevronUp, Plus, X } from 'lucide-react';
import { newId } from '../../../api/client';
import type { CallPlanSet, CallStep, CallTo, Item } from '../../../api/model';
import { commit, useItems, useMay } from '../../../api/queries';
import { useContacts } from '../../../parts/contacts';
import { complain, numberOf, textOf, useForm } from '../../../parts/form';
import { FormEnd } from '../../../parts/form-end';
import { always } from '../../../parts/hours';
import { HoursField } from '../../../parts/hours-field';
import { ListField, PickField } from '../../../parts/picker';
import { PRIORITY_WORDS } from '../../../parts/text';
import { Button, Choice, Field, Input, Tick } from '../../../parts/ui';

interface StepValues {
  to: CallTo;
  wait: string;
}

/** What a step of each kind begins with. */
const FIRST: Record<CallTo['kind'], CallTo> = {
  person: { kind: 'person', account: '' },
  crew: { kind: 'crew' },
  address: { kind: 'address', mail: '' },
  hook: { kind: 'hook', connection: '' },
};

const KINDS: Record<CallTo['kind'], string> = {
  person: 'a person',
  crew: 'the crew on shift',
  address: 'an address',
  hook: 'a web hook',
};

function valuesOf(set: CallPlanSet | undefined) {
  return {
    name: set?.name ?? '',
    note: set?.note ?? '',
    enabled: set?.enabled ?? true,
    under: set?.under ?? null,
    lowest: set?.lowest ?? 3,
    classes: set?.classes ?? [],
    hours: set?.hours.windows.length ? set.hours : always(),
    after_min: textOf(set?.after_min ?? 3),
    steps: (set?.steps ?? []).map((step): StepValues => ({ to: step.to, wait: textOf(step.wait_min) })),
    rounds: textOf(set?.rounds ?? 2),
    mail: set?.mail ?? '',
  };
}

const FIELDS = ['name', 'note', 'under', 'lowest', 'classes', 'after_min', 'rounds', 'mail', 'steps'];

interface Props {
  plan: Item<'call_plan'> | undefined;
  seen: number;
  count: number;
  onClose: () => void;
}

export function PlanForm({ plan, seen, count, onClose }: Props) {
  const engineer = useMay('engineer');
  const form = useForm(valuesOf(plan?.set), FIELDS, { follow: true, draft: `call-out plan ${plan?.id ?? 'new'}` });
  const places = useItems('place').data?.items ?? [];
  const classes = useItems('alarm_class').data?.items ?? [];
  const connections = useItems('connection').data?.items ?? [];
  const mails = connections.filter((one) => one.set.kind === 'mail').map((one) => ({ id: one.id, title: one.set.name }));
  const v = form.values;
  const problem = (field: string) => form.problems.find((p) => p.field === field)?.message;
  const save = async () => {
    const set: Partial<CallPlanSet> = {
      ...v,
      name: v.name.trim(),
      after_min: numberOf(v.after_min) ?? 0,
      rounds: numberOf(v.rounds) ?? 0,
      mail: v.mail || null,
      steps: v.steps.map((step): CallStep => ({ to: step.to, wait_min: numberOf(step.wait) ?? 0 })),
      ...(plan ? {} : { order: count }),
    };
    const edit = plan
      ? ({ op: 'patch', kind: 'call_plan', id: plan.id, set } as const)
      : ({ op: 'create', kind: 'call_plan', id: newId(), set } as const);
    const done = await form.run(() => commit(`${plan ? 'Changed' : 'Added'} call-out plan ${set.name}`, seen, [edit]));
    if (done) onClose();
  };
  return (
    <form
      aria-label={plan ? `Call-out plan ${plan.set.name}` : 'New call-out plan'}
      className="min-h-0 flex-1 overflow-y-auto pr-1"
      onSubmit={(e) => {
        e.preventDefault();
        void save();
      }}
    >
      <fieldset disabled={!engineer} className="grid grid-cols-[minmax(0,0.8fr)_minmax(0,1.2fr)] gap-x-8">
        <div className="space-y-3">
          <h2 className="font-semibold">For which alarms</h2>
          <div className="flex flex-wrap items-start gap-3">
            <Field label="Name" error={form.error('name')} className="w-52">
              {(p) => <Input {...p} value={v.name} placeholder="Night" onChange={(e) => form.set('name', e.target.value)} />}
            </Field>
            <span className="mt-6">
              <Tick label="On" checked={v.enabled} onChange={(on) => form.set('enabled', on)} />
            </span>
          </div>
          <Field label="At this place and below" error={form.error('under')}>
            {(p) => (
              <PickField
                label="Place"
                field={p}
                kind="place"
                none="anywhere, and about Havrel itself"
                value={places.filter((one) => one.id === v.under).map((one) => ({ id: one.id, title: one.title }))[0]}
                onChange={(id) => form.set('under', id)}
              />
            )}
          </Field>
          <div className="flex flex-wrap items-start gap-3">
            <Field label="Priority, and higher" error={form.error('lowest')} className="w-44">
              {(p) => (
                <Choice {...p} value={v.lowest} onChange={(e) => form.set('lowest', Number(e.target.value))}>
                  {[4, 3, 2, 1].map((priority) => (
                    <option key={priority} value={priority}>{`${priority} · ${PRIORITY_WORDS[priority]}`}</option>
                  ))}
                </Choice>
              )}
            </Field>
            <Field label="Not acknowledged for, min" error={form.error('after_min')} className="w-44">
              {(p) => (
                <Input
                  {...p}
                  className="figures w-20 text-right"
                  inputMode="decimal"
                  value={v.after_min}
                  onChange={(e) => form.set('after_min', e.target.value)}
                />
              )}
            </Field>
          </div>
          {classes.length > 0 && (
            <fieldset>
              <legend className="mb-0.5 text-sm text-soft">Only of these alarm classes; none ticked: of any</legend>
              <div className="flex flex-wrap gap-x-4">
                {classes.map((one) => (
                  <Tick
                    key={one.id}
                    label={one.set.name}
                    checked={v.classes.includes(one.id)}
                    onChange={(on) => form.set('classes', on ? [...v.classes, one.id] : v.classes.filter((id) => id !== one.id))}
                  />
                ))}
              </div>
            </fieldset>
          )}
          <HoursField
            label="When the plan applies"
            hours={v.hours}
            error={(field) => problem(`hours.${field}`)}
            onChange={(hours) => form.set('hours', hours)}
          />
          <Field label="Note" error={form.error('note')}>
            {(p) => <Input {...p} value={v.note} onChange={(e) => form.set('note', e.target.value)} />}
          </Field>
        </div>
        <div className="space-y-3">
          <h2 className="font-semibold">Who is told, one after the other</h2>
          <Steps
            steps={v.steps}
            problem={problem}
            hooks={connections.filter((one) => one.set.kind === 'hook').map((one) => ({ id: one.id, title: one.set.name }))}
            onChange={(steps) => form.set('steps', steps)}
          />
          {form.error('steps') && <p className="text-sm text-act4">{form.error('steps')}</p>}
          <div className="flex flex-wrap items-start gap-3">
            <Field label="Gone through, times" error={form.error('rounds')} className="w-36">
              {(p) => (
                <Input
                  {...p}
                  className="figures w-20 text-right"
                  inputMode="numeric"
                  value={v.rounds}
                  onChange={(e) => form.set('rounds', e.target.value)}
                />
              )}
            </Field>
            <Field
              label="Mail server"
              error={form.error('mail')}
              hint={mails.length === 0 ? 'Connect one first: Connect, kind Mail server.' : undefined}
              className="w-56"
            >
              {(p) => (
                <ListField
                  label="Mail server"
                  field={p}
                  none="none"
                  value={v.mail}
                  from={mails}
                  onChange={(id) => form.set('mail', id)}
                />
              )}
            </Field>
          </div>
          <p className="text-soft">
            The call ends when somebody takes it, or when no alarm waits any more. People are not told in their quiet hours, but
            for priority 4; then the next step comes at once. Where nobody takes it, an alarm of priority 4 says so.
          </p>
        </div>
      </fieldset>
      <FormEnd
        form={form}
        noun="plan"
        title={plan ? `call-out plan “${plan.set.name}”` : undefined}
        deleted="Nobody is called by it any more; calls that go on end."
        disabled={!engineer}
        onClose={onClose}
        onDelete={() => {
          if (!plan) return;
          commit(`Deleted call-out plan ${plan.set.name}`, seen, [{ op: 'delete', kind: 'call_plan', id: plan.id }])
            .then(onClose)
            .catch(complain);
        }}
      />
    </form>
  );
}

interface StepsProps {
  steps: readonly StepValues[];
  hooks: readonly { id: string; title: string }[];
  problem: (field: string) => string | undefined;
  onChange: (steps: StepValues[]) => void;
}

function Steps({ steps, hooks, problem, onChange }: StepsProps) {
  const contacts = useContacts();
  const people = contacts.map((one) => ({ id: one.account, title: one.reachable ? one.name : `${one.name} (no address)` }));
  const change = (i: number, part: Partial<StepValues>) =>
    onChange(steps.map((step, n) => (n === i ? { ...step, ...part } : step)));
  const move = (i: number, by: -1 | 1) => {
    const next = [...steps];
    const [step] = next.splice(i, 1);
    if (step) next.splice(i + by, 0, step);
    onChange(next);
  };
  return (
    <>
      <ol className="space-y-2">
        {steps.map((step, i) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: steps have no identity but their place
          <li key={i} aria-label={`Step ${i + 1}`} className="flex items-start gap-2">
            <span className="figures mt-6 w-5 text-right text-soft">{i + 1}.</span>
            <Field label="Tell" className="w-38">
              {(p) => (
                <Choice {...p} value={step.to.kind} onChange={(e) => change(i, { to: FIRST[e.target.value as CallTo['kind']] })}>
                  {Object.entries(KINDS).map(([kind, words]) => (
                    <option key={kind} value={kind}>
                      {words}
                    </option>
                  ))}
                </Choice>
              )}
            </Field>
            <div className="min-w-0 flex-1">
              <Whom
                step={step}
                people={people}
                hooks={hooks}
                problem={(field) => problem(`steps[${i}].to.${field}`)}
                onChange={(to) => change(i, { to })}
              />
            </div>
            <Field label="then, min" error={problem(`steps[${i}].wait_min`)} className="w-20">
              {(p) => (
                <Input
                  {...p}
                  className="figures text-right"
                  inputMode="decimal"
                  value={step.wait}
                  onChange={(e) => change(i, { wait: e.target.value })}
                />
              )}
            </Field>
            <span className="mt-5 flex">
              <Button
                kind="quiet"
                className="px-1"
                aria-label={`Step ${i + 1} up`}
                disabled={i === 0}
                onClick={() => move(i, -1)}
              >
                <ChevronUp className="size-4" />
              </Button>
              <Button
                kind="quiet"
                className="px-1"
                aria-label={`Step ${i + 1} down`}
                disabled={i === steps.length - 1}
                onClick={() => move(i, 1)}
              >
                <ChevronDown className="size-4" />
              </Button>
              <Button
                kind="quiet"
                className="px-1"
                aria-label={`Delete step ${i + 1}`}
                onClick={() => onChange(steps.filter((_, n) => n !== i))}
              >
                <X className="size-3.5" />
              </Button>
            </span>
          </li>
        ))}
      </ol>
      <Button kind="quiet" onClick={() => onChange([...steps, { to: FIRST.person, wait: '5' }])}>
        <Plus className="size-4" /> Step
      </Button>
    </>
  );
}

interface WhomProps {
  step: StepValues;
  people: readonly { id: string; title: string }[];
  hooks: readonly { id: string; title: string }[];
  problem: (field: string) => string | undefined;
  onChange: (to: CallTo) => void;
}

function Whom({ step: { to }, people, hooks, problem, onChange }: WhomProps) {
  switch (to.kind) {
    case 'crew':
      return <p className="mt-6 text-soft">of the alarm’s place</p>;
    case 'person':
      return (
        <Field label="Person" error={problem('account')}>
          {(p) => (
            <ListField
              label="Person"
              field={p}
              none="choose…"
              value={to.account}
              from={people}
              onChange={(account) => onChange({ kind: 'person', account })}
            />
          )}
        </Field>
      );
    case 'address':
      return (
        <Field label="Address" error={problem('mail')}>
          {(p) => (
            <Input
              {...p}
              inputMode="email"
              placeholder="shift-lead@works.example"
              value={to.mail}
              onChange={(e) => onChange({ kind: 'address', mail: e.target.value })}
            />
          )}
        </Field>
      );
    case 'hook':
      return (
        <Field
          label="Web hook"
          error={problem('connection')}
          hint={hooks.length === 0 ? 'Connect one first: Connect, kind Web hook.' : undefined}
        >
          {(p) => (
            <ListField
              label="Web hook"
              field={p}
              none="choose…"
              value={to.connection}
              from={hooks}
              onChange={(connection) => onChange({ kind: 'hook', connection })}
            />
          )}
        </Field>
      );
  }
}
