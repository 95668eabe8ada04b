// A rule proven before it is needed: tried on made-up values, and run against what is recorded.

import { useQuery } from '@tanstack/react-query';
import { FlaskConical, History } from 'lucide-react';
import { useMemo, useState } from 'react';
import { http, type Schemas, take } from '../../api/client';
import { useNow, useValue } from '../../api/live';
import type { Item } from '../../api/model';
import { eventWords } from '../../app/alarm-events';
import { numberOf } from '../../parts/form';
import { KeptValues } from '../../parts/kept-values';
import type { Period } from '../../parts/period';
import { PeriodPart, periodWords } from '../../parts/period-part';
import { numberIn } from '../../parts/reading';
import { isLimit } from '../../parts/rule-kinds';
import { useSettled } from '../../parts/settled';
import { counted, lasting, moment, pathEnd, spanWords } from '../../parts/text';
import { Trend } from '../../parts/trend';
import { Button, Choice, Field, Input } from '../../parts/ui';
import { calmerWords } from './calmer';
import { madeUp, number, SHAPES, type ShapeName, type Typed } from './made-up';
import { type RuleValues, setOf } from './rule-form';
import { SpanStrip, TrialChart } from './trial-chart';

interface Props {
  tag: Item<'tag'>;
  rule: Item<'rule'> | undefined;
  values: RuleValues;
  /** Takes settings into the form. */
  onTake: (change: Partial<RuleValues>) => void;
}

export function RuleProof(props: Props) {
  const [open, setOpen] = useState<'trial' | 'backtest'>();
  const tab = (name: 'trial' | 'backtest') => ({
    'aria-expanded': open === name,
    onClick: () => setOpen(open === name ? undefined : name),
  });
  return (
    <section aria-label="Proof" className="mt-3 border-t border-line pt-2">
      <div className="flex flex-wrap items-center gap-2">
        <Button {...tab('trial')}>
          <FlaskConical className="size-4" /> Trial
        </Button>
        <Button {...tab('backtest')}>
          <History className="size-4" /> Backtest
        </Button>
        <p className="text-soft">Neither is recorded, and nobody is told.</p>
      </div>
      {open === 'trial' && <TrialPart {...props} />}
      {open === 'backtest' && <Backtest {...props} />}
    </section>
  );
}

function TrialPart({ tag, rule, values }: Props) {
  const live = useValue(tag.no);
  const now = numberIn(live?.value) ?? 0;
  const { range_low: low, range_high: high } = tag.set;
  const plain = { at: '20', back: '80', points: '', badFrom: '', badTo: '' };
  const [length, setLength] = useState('120');
  const [every, setEvery] = useState('1');
  const [own, setOwn] = useState<Typed>({ ...plain, shape: 'ramp', from: String(low ?? now), to: String(high ?? now + 10) });
  const [others, setOthers] = useState<Record<string, Typed>>({});
  const made = [madeUp(tag.id, own), ...Object.entries(others).map(([id, typed]) => madeUp(id, typed))];
  const typed = {
    tag: tag.id,
    ...(rule ? { rule: rule.id } : {}),
    set: setOf(values, rule?.set),
    seconds: number(length),
    every_s: number(every),
    made_up: made,
  };
  const isWhole = !made.includes(undefined) && Number.isFinite(typed.seconds) && Number.isFinite(typed.every_s);
  const asked = useSettled(typed);
  const tried = useQuery({
    queryKey: ['trial', asked],
    enabled: isWhole && !asked.made_up.includes(undefined),
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
    placeholderData: (before) => before,
    queryFn: async () => (await take(http.POST('/api/rules/trial', { body: asked as never }))) as Schemas['TrialView'],
  });
  const found = tried.data;
  // What the formulas read has to be made up as well.
  const missing = found?.columns.filter((column) => column.tag !== tag.id && !others[column.tag]);
  return (
    <div className="mt-2 space-y-2">
      <div className="flex flex-wrap items-end gap-3">
        <Small label="Seconds" value={length} onChange={setLength} />
        <Small label="Every, s" value={every} onChange={setEvery} />
      </div>
      <ShapeLine title={tag.set.name} unit={tag.set.unit} typed={own} onChange={setOwn} />
      {Object.entries(others).map(([id, typed]) => (
        <ShapeLine
          key={id}
          title={pathEnd(found?.columns.find((column) => column.tag === id)?.title ?? '')}
          unit=""
          typed={typed}
          onChange={(next) => setOthers((all) => ({ ...all, [id]: next }))}
        />
      ))}
      {missing && missing.length > 0 && (
        <p className="flex flex-wrap items-center gap-2">
          <span className="text-soft">It also reads {missing.map((column) => pathEnd(column.title)).join(', ')}.</span>
          <Button
            onClick={() =>
              setOthers((all) => ({
                ...all,
                ...Object.fromEntries(
                  missing.map((column) => [column.tag, { ...plain, shape: 'hold' as const, from: '0', to: '0' }]),
                ),
              }))
            }
          >
            Make up their values
          </Button>
        </p>
      )}
      {!isWhole && <p className="text-act4">Enter numbers; by hand, seconds and values in pairs: 0 20, 30 85, 60 20.</p>}
      {isWhole && tried.error && <p className="text-act4">{tried.error.message}</p>}
      {found && (
        <>
          <TrialChart
            trial={found}
            level={isLimit(values.kind) && !values.follows ? (numberOf(values.level) ?? undefined) : undefined}
            priority={values.weight === 'off' ? 1 : values.weight}
          />
          <p aria-live="polite" className="font-semibold">
            {found.spans.length === 0 ? 'No alarm comes.' : `${counted(found.spans.length, 'alarm')}.`}
          </p>
          <ol aria-label="Events of the trial" className="max-h-40 overflow-auto">
            {found.events.map((event, index) => (
              // biome-ignore lint/suspicious/noArrayIndexKey: nothing else tells two events of one instant apart
              <li key={index} className="grid grid-cols-[4.5rem_9rem_1fr] gap-x-3">
                <span className="figures text-right">{event.at_s.toFixed(1)} s</span>
                <span>{eventWords(event)}</span>
                <span className="text-soft">
                  {event.comment || event.text}
                  {event.suppressed && event.kind === 'raised' && ' · suppressed'}
                  {event.values.length > 0 && <KeptValues values={event.values} />}
                </span>
              </li>
            ))}
          </ol>
        </>
      )}
    </div>
  );
}

interface SmallProps {
  label: string;
  value: string;
  onChange: (text: string) => void;
  className?: string;
}

function Small({ label, value, onChange, className = 'w-20' }: SmallProps) {
  return (
    <Field label={label} className={className}>
      {(p) => (
        <Input
          {...p}
          className="figures text-right"
          inputMode="decimal"
          value={value}
          onChange={(e) => onChange(e.target.value)}
        />
      )}
    </Field>
  );
}

interface ShapeProps {
  title: string;
  unit: string;
  typed: Typed;
  onChange: (typed: Typed) => void;
}

function ShapeLine({ title, unit, typed, onChange }: ShapeProps) {
  const set = (change: Partial<Typed>) => onChange({ ...typed, ...change });
  const small = (key: keyof Typed, label: string) => (
    <Small label={label} value={typed[key]} onChange={(text) => set({ [key]: text })} />
  );
  return (
    <div className="flex flex-wrap items-end gap-3">
      <Field label={unit ? `${title}, ${unit}` : title} className="w-44">
        {(p) => (
          <Choice {...p} value={typed.shape} onChange={(e) => set({ shape: e.target.value as ShapeName })}>
            {Object.entries(SHAPES).map(([shape, words]) => (
              <option key={shape} value={shape}>
                {words}
              </option>
            ))}
          </Choice>
        )}
      </Field>
      {typed.shape === 'hold' && small('from', 'Value')}
      {typed.shape === 'ramp' && (
        <>
          {small('from', 'From')}
          {small('to', 'To')}
        </>
      )}
      {typed.shape === 'step' && (
        <>
          {small('from', 'From')}
          {small('to', 'To')}
          {small('at', 'At, s')}
          {small('back', 'Back at, s')}
        </>
      )}
      {typed.shape === 'noise' && (
        <>
          {small('from', 'Around')}
          {small('to', 'Width')}
        </>
      )}
      {typed.shape === 'points' && (
        <Field label="Seconds and values" className="w-72">
          {(p) => (
            <Input
              {...p}
              placeholder="0 20, 30 85, 60 20"
              value={typed.points}
              onChange={(e) => set({ points: e.target.value })}
            />
          )}
        </Field>
      )}
      {small('badFrom', 'Bad from, s')}
      {small('badTo', 'to, s')}
    </div>
  );
}

function Backtest({ tag, rule, values, onTake }: Props) {
  const now = useNow();
  const [chosen, setChosen] = useState<Period>({ span: 86_400, end: undefined });
  const [asked, setAsked] = useState<{ set: object; from: string; to: string; by: number }>();
  const set = setOf(values, rule?.set);
  const run = () => {
    const to = chosen.end ?? now;
    setAsked({ set, from: new Date(to - chosen.span * 1000).toISOString(), to: new Date(to).toISOString(), by: now });
  };
  const done = useQuery({
    queryKey: ['backtest', tag.id, rule?.id, asked],
    enabled: asked !== undefined,
    retry: false,
    staleTime: Number.POSITIVE_INFINITY,
    queryFn: async ({ signal }) => {
      const { by: _, ...rest } = asked ?? { by: 0 };
      const body = { tag: tag.id, ...(rule ? { rule: rule.id } : {}), ...rest };
      return (await take(http.POST('/api/rules/backtest', { body: body as never, signal }))) as Schemas['BacktestView'];
    },
  });
  const stale = asked !== undefined && JSON.stringify(asked.set) !== JSON.stringify(set);
  const tags = useMemo(() => [tag], [tag]);
  const found = done.data;
  const period: [number, number] | undefined = found && [Date.parse(found.from), Date.parse(found.to)];
  const calmer = found?.calmer;
  return (
    <div className="mt-2 space-y-2">
      <div className="flex flex-wrap items-end gap-2">
        <PeriodPart period={chosen} onPick={setChosen}>
          {chosen.end === undefined ? `The last ${spanWords(chosen.span)}` : periodWords(chosen)}
        </PeriodPart>
        <Button onClick={run} disabled={done.isFetching}>
          {done.isFetching ? 'Running…' : 'Run backtest'}
        </Button>
        {stale && <p className="text-soft">The settings are others by now; run it again.</p>}
      </div>
      {done.error && <p className="text-act4">{done.error.message}</p>}
      {found && period && (
        <>
          {found.notes.map((note) => (
            <p key={note} className={found.blind ? 'text-act4' : 'text-soft'}>
              {note}
            </p>
          ))}
          {!found.blind && (
            <>
              <table aria-label="Outcome of the backtest" className="w-full text-left">
                <thead className="text-sm text-soft">
                  <tr>
                    <th className="font-normal">{counted(found.values, 'recorded value')}</th>
                    <th className="w-20 text-right font-normal">Alarms</th>
                    <th className="w-24 text-right font-normal">Chattering</th>
                    <th className="w-28 text-right font-normal">Standing</th>
                    <th className="w-28 text-right font-normal">Longest</th>
                  </tr>
                </thead>
                <tbody>
                  {found.as_it_is && <Outcome name="as it is" of={found.as_it_is} />}
                  <Outcome name={found.as_it_is ? 'as typed here' : 'this rule'} of={found.proposed} />
                  {calmer && <Outcome name={`calmer: ${calmerWords(calmer, tag.set.unit)}`} of={calmer.judged} />}
                </tbody>
              </table>
              {calmer && (
                <p className="flex flex-wrap items-center gap-2">
                  <span className="text-soft">
                    {calmer.missed === 0
                      ? 'No alarm that stood for a minute would have been missed'
                      : `${counted(calmer.missed, 'alarm')} that stood for a minute would have been missed`}
                    ;{' '}
                    {calmer.later_s > 0
                      ? `the latest would have come ${lasting(calmer.later_s * 1000)} later.`
                      : 'none would have come later.'}
                  </span>
                  <Button
                    onClick={() =>
                      onTake({
                        deadband: String(calmer.deadband),
                        deadbandIn: calmer.deadband_in as RuleValues['deadbandIn'],
                        on: String(calmer.on_delay_s),
                        off: String(calmer.off_delay_s),
                      })
                    }
                  >
                    Use these settings
                  </Button>
                </p>
              )}
              <p className="text-sm text-soft">
                {moment(period[0], now)} to {moment(period[1], now)}
              </p>
              {tag.recorded && (
                <Trend tags={tags} span={Math.round((period[1] - period[0]) / 1000)} end={period[1]} height={110} plain />
              )}
              {found.as_it_is && <SpanStrip name="as it is" spans={found.as_it_is.spans} period={period} />}
              <SpanStrip name={found.as_it_is ? 'as typed' : 'this rule'} spans={found.proposed.spans} period={period} />
              {calmer && <SpanStrip name="calmer" spans={calmer.judged.spans} period={period} />}
            </>
          )}
        </>
      )}
    </div>
  );
}

function Outcome({ name, of }: { name: string; of: Schemas['JudgedView'] }) {
  const span = (s: number) => (s > 0 ? lasting(s * 1000) : '–');
  return (
    <tr className="h-6.5 border-t border-line">
      <td>{name}</td>
      <td className="figures text-right">{of.alarms}</td>
      <td className="figures text-right">{of.chattering}</td>
      <td className="figures text-right">{span(of.standing_s)}</td>
      <td className="figures text-right">{span(of.longest_s)}</td>
    </tr>
  );
}
