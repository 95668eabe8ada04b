// What a person does about alarms: acknowledge with a comment, reset, shelve, take out of service.

import { useState } from 'react';
import { toast } from 'sonner';
import { isLatched, waits } from '../api/alarm-state';
import type { Schemas } from '../api/client';
import { feed } from '../api/live';
import { type Alarm, actOnAlarms, useMay } from '../api/queries';
import { complain, useForm } from '../parts/form';
import { counted } from '../parts/text';
import { Button, Choice, Field, FormTrouble, Input } from '../parts/ui';

type Act = Schemas['AlarmActBody']['action'];

const DONE: Record<Act, string> = {
  acknowledge: 'Acknowledged',
  reset: 'Reset',
  shelve: 'Shelved',
  unshelve: 'Unshelved',
  take_out_of_service: 'Took out of service',
  put_in_service: 'Put back in service',
};

/** How long shelving lasts, in seconds. */
const SHELVED_FOR = [
  ['900', '15 minutes'],
  ['3600', 'an hour'],
  ['14400', 'four hours'],
  ['28800', 'eight hours'],
  ['86400', 'a day'],
  ['259200', 'three days'],
  ['at', 'until a time …'],
] as const;

/** Which alarms: those of some rules, or every one of a place and of what lies under it. */
export type Whose = { rules: string[] } | { under: string };

/** Does it, and says for how many it changed something. */
export async function doAct(action: Act, whose: Whose, more: { comment?: string; until?: string } = {}): Promise<void> {
  const count = await actOnAlarms({ action, rules: [], comment: '', ...whose, ...more });
  toast.success(count === 0 ? 'Nothing to change: this is done already.' : `${DONE[action]} ${counted(count, 'alarm')}.`);
}

/** Does it where no more has to be said, and gives whether it was done; what goes wrong is told. */
export const actNow = (action: Act, whose: Whose): Promise<boolean> =>
  doAct(action, whose).then(
    () => true,
    (error) => {
      complain(error);
      return false;
    },
  );

interface Props {
  whose: Whose;
  /** The alarms themselves, as far as they are known; a rule whose alarm is normal is not among them. */
  alarms: readonly Alarm[];
  /** What the buttons name: “3 alarms”; nothing where only one is open. */
  what?: string;
  /** Where it is kept what was typed. */
  draft: string;
  onDone?: () => void;
}

export function AlarmActs({ whose, alarms, what, draft, onDone }: Props) {
  const operator = useMay('operator');
  const engineer = useMay('engineer');
  const [open, setOpen] = useState<'acknowledge' | 'shelve' | 'take_out_of_service' | null>(null);
  if (!operator) return null;
  const waiting = alarms.filter((a) => waits(a.state)).length;
  const latched = alarms.filter((a) => a.condition === 'latched').length;
  const shelved = alarms.some((a) => a.suppressions.some((s) => s.kind === 'shelved'));
  const idle = alarms.some((a) => a.suppressions.some((s) => s.kind === 'out_of_service'));
  if (open) {
    const close = (done: boolean) => {
      setOpen(null);
      if (done) onDone?.();
    };
    return <ActForm act={open} whose={whose} what={what} draft={`${draft} ${open}`} onClose={close} />;
  }
  // What is wrong with Havrel itself cannot be kept from anybody.
  const mayWait = alarms.every((a) => a.tag);
  const now = (action: Act) => void actNow(action, whose).then((done) => done && onDone?.());
  return (
    <div className="flex flex-wrap gap-2">
      {waiting > 0 && (
        <>
          <Button kind="main" onClick={() => now('acknowledge')}>
            Acknowledge
          </Button>
          <Button onClick={() => setOpen('acknowledge')}>With comment…</Button>
        </>
      )}
      {latched > 0 && <Button onClick={() => now('reset')}>Reset</Button>}
      {mayWait && <Button onClick={() => setOpen('shelve')}>{shelved ? 'Shelve for longer…' : 'Shelve…'}</Button>}
      {shelved && <Button onClick={() => now('unshelve')}>Unshelve</Button>}
      {mayWait && engineer && !idle && <Button onClick={() => setOpen('take_out_of_service')}>Out of service…</Button>}
      {engineer && idle && <Button onClick={() => now('put_in_service')}>Put back in service</Button>}
    </div>
  );
}

interface FormProps {
  act: 'acknowledge' | 'shelve' | 'take_out_of_service';
  whose: Whose;
  what: string | undefined;
  draft: string;
  onClose: (done: boolean) => void;
}

const TITLES = { acknowledge: 'Acknowledge', shelve: 'Shelve', take_out_of_service: 'Take out of service' };
const MEANT = {
  acknowledge: '',
  shelve: 'A shelved alarm is judged and recorded, but nobody is told. When the time is over, it is told again.',
  take_out_of_service: 'Out of service, an alarm is judged and recorded, but nobody is told until it is put back.',
};

function ActForm({ act, whose, what, draft, onClose }: FormProps) {
  const form = useForm({ comment: '', length: '3600', until: '' }, ['comment', 'until'], { draft });
  const v = form.values;
  const save = () =>
    form
      .run(() => {
        const at = v.length === 'at' ? Date.parse(v.until) : feed.time() + Number(v.length) * 1000;
        const until = Number.isNaN(at) ? v.until : new Date(at).toISOString();
        return doAct(act, whose, { comment: v.comment, ...(act === 'shelve' ? { until } : {}) });
      })
      .then((done) => {
        if (done) onClose(true);
      });
  return (
    <form
      aria-label={TITLES[act]}
      className="space-y-2 rounded border border-teal bg-paper p-2.5"
      onKeyDown={(e) => {
        if (e.key !== 'Escape') return;
        e.stopPropagation();
        onClose(false);
      }}
      onSubmit={(e) => {
        e.preventDefault();
        void save();
      }}
    >
      {MEANT[act] && <p className="text-sm text-soft">{MEANT[act]}</p>}
      <Field label={act === 'acknowledge' ? 'Comment' : 'Reason'} error={form.error('comment')}>
        {(p) => <Input {...p} autoFocus value={v.comment} onChange={(e) => form.set('comment', e.target.value)} />}
      </Field>
      {act === 'shelve' && (
        <Field label="For" error={form.error('until')}>
          {(p) => (
            <Choice {...p} value={v.length} onChange={(e) => form.set('length', e.target.value)}>
              {SHELVED_FOR.map(([value, words]) => (
                <option key={value} value={value}>
                  {words}
                </option>
              ))}
            </Choice>
          )}
        </Field>
      )}
      {act === 'shelve' && v.length === 'at' && (
        <Input type="datetime-local" aria-label="Until" value={v.until} onChange={(e) => form.set('until', e.target.value)} />
      )}
      <FormTrouble form={form} />
      <div className="flex flex-wrap gap-2">
        <Button kind="main" type="submit" disabled={form.busy || !v.comment.trim() || (v.length === 'at' && !v.until)}>
          {TITLES[act]}
          {what ? ` ${what}` : ''}
        </Button>
        <Button
          kind="quiet"
          onClick={() => {
            form.discard();
            onClose(false);
          }}
        >
          Cancel
        </Button>
      </div>
    </form>
  );
}

/** The kinds of suppression, in words. */
export const SUPPRESSION_WORDS: Record<string, string> = {
  shelved: 'shelved',
  by_design: 'suppressed by design',
  out_of_service: 'out of service',
};

/** What keeps an alarm from the operator, in words. */
export function suppressionWords(alarm: Alarm): string {
  return alarm.suppressions
    .map(({ kind, by }) => {
      const what = SUPPRESSION_WORDS[kind] ?? kind;
      return by ? `${what} by ${by}` : what;
    })
    .join(', ');
}

/** How long the condition has held or has been gone, as a list tells it. `now` is milliseconds. */
export function sinceWords(alarm: Alarm, now: number, lasting: (ms: number) => string): string {
  const gone = () => lasting(now - Date.parse(alarm.returned_at));
  if (isLatched(alarm.state)) return `latched, back ${gone()}`;
  return alarm.returned_at ? `back ${gone()}` : lasting(now - Date.parse(alarm.raised_at));
}
