// A dispatch as one sentence whose parts open, beside when it comes next and what it sent.

import { keepPreviousData, useQuery } from '@tanstack/react-query';
import clsx from 'clsx';
import { CircleAlert, Send } from 'lucide-react';
import { type ReactNode, useState } from 'react';
import { toast } from 'sonner';
import { http, newId, take } from '../../api/client';
import type { Item } from '../../api/model';
import { commit, queries, useItems, useMay } from '../../api/queries';
import { complain, useForm } from '../../parts/form';
import { FormEnd } from '../../parts/form-end';
import { ListField } from '../../parts/picker';
import { useSettled } from '../../parts/settled';
import { minuteIn } from '../../parts/text';
import { Button, Choice, Field, Input, Tick, Trouble } from '../../parts/ui';
import { DeliveriesField, useCarriers } from './deliveries-field';
import { COVERS, coversWords, type DispatchValues, deliveryWords, setOf, valuesOf, whenWords } from './dispatch';
import { RUNS, Runs } from './runs';
import { WhenPart } from './when-part';

interface Props {
  item: Item<'dispatch'> | undefined;
  seen: number;
  count: number;
  /** The report of a new dispatch. */
  report: string | undefined;
  onClose: () => void;
}

type Part = 'when' | 'report' | 'covers' | 'deliveries';

/** The fields behind each part of the sentence, by how their names begin. */
const BEHIND: Record<Part, readonly string[]> = {
  when: ['when', 'trigger', 'shifts'],
  report: ['report'],
  covers: ['covers', 'shifts'],
  deliveries: ['deliveries'],
};

export function DispatchForm({ item, seen, count, report, onClose }: Props) {
  const engineer = useMay('engineer');
  const reports = useItems('report').data?.items ?? [];
  const patterns = useItems('shift_pattern').data?.items ?? [];
  const carriers = useCarriers();
  const start = valuesOf(item?.set, item?.formulas?.trigger ?? '', report ?? reports[0]?.id ?? '');
  const delivered = start.deliveries.flatMap((_, i) =>
    ['connection', 'to', 'file', 'formats'].map((f) => `deliveries[${i}].${f}`),
  );
  const form = useForm(
    start,
    ['name', 'report', 'when.cron', 'trigger', 'trigger.text', 'covers', 'shifts', 'deliveries', ...delivered],
    { follow: true, draft: `dispatch ${item?.id ?? 'new'}` },
  );
  const [open, setOpen] = useState<Part | undefined>(item ? undefined : 'when');
  const tried = useTried(form.values, item?.id);
  const v = form.values;
  const of = reports.find(({ id }) => id === v.report);
  // What the server would refuse is told as it is typed.
  const problem = (field: string) =>
    form.problems.find((p) => p.field === field)?.message ?? tried.data?.problems.find((p) => p.field === field)?.message;
  const bad = (part: Part) => {
    const all = [...form.problems.map((p) => p.field), ...(tried.data?.problems ?? []).map((p) => p.field)];
    return all.some((field) => field !== undefined && BEHIND[part].some((begin) => field.startsWith(begin)));
  };
  const save = async () => {
    const set = setOf(v);
    const id = item?.id ?? newId();
    const edit = item
      ? ({ op: 'patch', kind: 'dispatch', id, set } as const)
      : ({ op: 'create', kind: 'dispatch', id, set: { ...set, order: count } } as const);
    const done = await form.run(() => commit(`${item ? 'Changed' : 'Added'} dispatch ${set.name}`, seen, [edit]));
    if (!done) return;
    toast.success(set.running || set.when.on === 'hand' ? 'Saved.' : 'Saved, and paused.');
    onClose();
  };
  const remove = () => {
    if (!item) return;
    commit(`Deleted dispatch ${item.set.name}`, seen, [{ op: 'delete', kind: 'dispatch', id: item.id }]).then(onClose, complain);
  };
  const shifts = patterns.find(({ id }) => id === v.shifts)?.set.name ?? '';
  const to = v.deliveries.map((one) => deliveryWords(one, carriers.find(({ id }) => id === one.connection)?.title ?? '…'));
  const part = (name: Part, words: string) => (
    <SentencePart key={name} on={open === name} bad={bad(name)} onClick={() => setOpen(open === name ? undefined : name)}>
      {words}
    </SentencePart>
  );
  return (
    <div className="grid min-h-0 flex-1 grid-cols-[minmax(0,1.2fr)_minmax(0,1fr)] gap-5">
      <form
        aria-label={item ? `Dispatch ${item.set.name}` : 'New dispatch'}
        className="min-h-0 space-y-3 overflow-y-auto pr-2"
        onSubmit={(event) => {
          event.preventDefault();
          void save();
        }}
      >
        <fieldset disabled={!engineer} className="space-y-3">
          <div className="flex items-start gap-4">
            <Field label="Name" error={form.error('name')} className="w-72">
              {(p) => (
                <Input {...p} value={v.name} placeholder="Morning summary" onChange={(e) => form.set('name', e.target.value)} />
              )}
            </Field>
            <span className="mt-6">
              <Tick label="Running" checked={v.running} onChange={(on) => form.set('running', on)} />
            </span>
          </div>
          <p className="text-[1.0625rem] leading-8">
            {part('when', whenWords(v, tried.data?.words ?? '', shifts))}, make{' '}
            {part('report', of?.set.name ?? 'choose a report')} for {part('covers', coversWords(v.covers, of?.set))} and{' '}
            {part('deliveries', to.length > 0 ? `send it to ${to.join('; ')}` : 'keep it here')}
          </p>
          {open && (
            <div className="rounded border border-firm p-3">
              {open === 'when' && <WhenPart form={form} disabled={!engineer} words={tried.data?.words ?? ''} problem={problem} />}
              {open === 'report' && (
                <Field label="Report" error={problem('report')} className="w-96">
                  {(p) => (
                    <ListField
                      label="Report"
                      field={p}
                      none="choose"
                      value={v.report}
                      from={reports.map((one) => ({ id: one.id, title: one.set.name }))}
                      onChange={(id) => form.set('report', id)}
                    />
                  )}
                </Field>
              )}
              {open === 'covers' && (
                <Field label="It covers" error={problem('covers')} hint="By the time zone of the report." className="w-80">
                  {(p) => (
                    <Choice
                      {...p}
                      value={v.covers}
                      onChange={(e) => form.set('covers', e.target.value as DispatchValues['covers'])}
                    >
                      {COVERS.map(({ covers, title }) => (
                        <option key={covers} value={covers}>
                          {title}
                        </option>
                      ))}
                    </Choice>
                  )}
                </Field>
              )}
              {((open === 'when' && v.on === 'shift') || (open === 'covers' && v.covers === 'shift')) && (
                <Field label="Shift pattern" error={problem('shifts')} className="mt-2 w-72">
                  {(p) => (
                    <ListField
                      label="Shift pattern"
                      field={p}
                      none="choose"
                      value={v.shifts}
                      from={patterns.map((one) => ({ id: one.id, title: one.set.name }))}
                      onChange={(id) => form.set('shifts', id)}
                    />
                  )}
                </Field>
              )}
              {open === 'deliveries' && (
                <DeliveriesField
                  form={form}
                  sections={of?.set.sections ?? []}
                  files={tried.data?.files ?? []}
                  problem={problem}
                />
              )}
            </div>
          )}
        </fieldset>
        <FormEnd
          form={form}
          noun="dispatch"
          title={item && `dispatch “${item.set.name}”`}
          deleted="It makes and sends nothing more. The editions that it made stay."
          disabled={!engineer}
          onClose={onClose}
          onDelete={remove}
        />
      </form>
      <div className="flex min-h-0 flex-col gap-4">
        <Next tried={tried.data} error={tried.error} values={v} zone={of?.set.zone ?? 'UTC'} />
        {item && (
          <>
            <SendNow item={item} dirty={form.dirty} />
            <Runs dispatch={item.id} title="Made and sent" />
          </>
        )}
      </div>
    </div>
  );
}

/** A part of the sentence: what it says, and the way to change it. */
function SentencePart({ on, bad, onClick, children }: { on: boolean; bad: boolean; onClick: () => void; children: ReactNode }) {
  return (
    <button
      type="button"
      aria-expanded={on}
      onClick={onClick}
      className={clsx(
        'inline rounded border px-1.5 text-left leading-6 font-semibold wrap-anywhere hover:border-teal',
        on ? 'border-teal bg-tint' : bad ? 'border-act4' : 'border-line bg-raised',
      )}
    >
      {bad && <CircleAlert aria-label="not complete: " className="mr-1 inline size-3.5 text-act4" />}
      {children}
    </button>
  );
}

function SendNow({ item, dirty }: { item: Item<'dispatch'>; dirty: boolean }) {
  const operator = useMay('operator');
  const [busy, setBusy] = useState(false);
  if (!operator) return null;
  const send = async () => {
    setBusy(true);
    try {
      await take(http.POST('/api/dispatches/{id}/send', { params: { path: { id: item.id } } }));
      await queries.invalidateQueries({ queryKey: [RUNS] });
    } catch (error) {
      complain(error);
    } finally {
      setBusy(false);
    }
  };
  return (
    <p className="flex items-center gap-3">
      <Button disabled={busy} onClick={() => void send()}>
        <Send className="size-4" /> Send now
      </Button>
      <span className="text-sm text-soft">
        {dirty
          ? 'Sends as it was saved last, not what is typed here.'
          : 'Makes the report at once and sends it as the sentence says.'}
      </span>
    </p>
  );
}

type Tried = NonNullable<ReturnType<typeof useTried>['data']>;

/** What the settings come to, a moment after they were typed. */
function useTried(values: DispatchValues, id: string | undefined) {
  const settled = useSettled(values);
  const engineer = useMay('engineer');
  const dispatch = { ...setOf(settled), name: settled.name.trim() || '…' } as unknown as Record<string, never>;
  const body = { dispatch, ...(id ? { id } : {}) };
  return useQuery({
    queryKey: ['items', 'dispatch', 'try', body],
    queryFn: () => take(http.POST('/api/dispatches/try', { body })),
    enabled: engineer && Boolean(settled.report) && settled.deliveries.every((one) => one.connection),
    placeholderData: keepPreviousData,
    refetchInterval: 60_000,
  });
}

interface NextProps {
  tried: Tried | undefined;
  error: unknown;
  values: DispatchValues;
  /** By whose clock it goes. */
  zone: string;
}

function Next({ tried, error, values, zone }: NextProps) {
  const byClock = values.on === 'schedule' || values.on === 'shift';
  return (
    <section aria-label="Next times">
      <h2 className="font-semibold">{byClock ? 'Next times' : 'It would cover now'}</h2>
      <Trouble error={error} />
      {byClock && !values.running && <p className="text-soft">It is paused, so nothing is made at these times.</p>}
      {tried && tried.times.length === 0 && <p className="text-soft">None.</p>}
      <ol>
        {tried?.times.map((time) => (
          <li key={time.at} className="flex flex-wrap gap-x-3 text-sm">
            {byClock && <span className="figures">{minuteIn(time.at, zone)}</span>}
            <span className="figures text-soft">
              {time.from ? `${minuteIn(time.from, zone)} to ${minuteIn(time.to, zone)}` : 'no shift ended in the month before'}
            </span>
          </li>
        ))}
      </ol>
    </section>
  );
}
