// How well the alarms serve the people who watch them: figures against the guides, their course, floods, and the rules behind them.

import { useQuery } from '@tanstack/react-query';
import { Check, TriangleAlert, X } from 'lucide-react';
import { useState } from 'react';
import { http, type Schemas, take } from '../../api/client';
import { useNow } from '../../api/live';
import { useGo, useView } from '../../app/view';
import type { Period } from '../../parts/period';
import { PeriodPart, periodWords } from '../../parts/period-part';
import { counted, lasting, moment } from '../../parts/text';
import { Button, Choice, Empty, Trouble } from '../../parts/ui';
import { Course } from './course';
import { BEHIND, type Measure } from './measures';
import { RuleFigures, type RuleOrder } from './rule-figures';
import { Spread } from './spread';

type Figures = Schemas['PerformanceView'];
type Figure = Schemas['FigureOfAlarms'];

/** A week, in seconds. */
const USUAL = 7 * 86_400;
/** The areas are a choice by name; this stands for all of them, and for what none watches: no name holds a “/”. */
const ALL = '';
const NONE = '/';

export function Performance({ at }: { at: string | undefined }) {
  const go = useGo();
  const { span, end, area } = useView();
  const period: Period = { span: span ?? USUAL, ...(end === undefined ? {} : { end }) };
  const names =
    useQuery({ queryKey: ['items', 'operator areas'], queryFn: () => take(http.GET('/api/alarms/areas')) }).data ?? [];
  // What goes on is counted anew each minute.
  const minute = Math.ceil(useNow() / 60_000) * 60_000;
  const to = period.end ?? minute;
  const asked = {
    from: new Date(to - period.span * 1000).toISOString(),
    to: new Date(to).toISOString(),
    ...(at ? { under: at } : {}),
    ...(area === undefined ? {} : { area: area === NONE ? '' : area }),
  };
  const found = useQuery({
    queryKey: ['performance', asked],
    placeholderData: (before) => before,
    retry: false,
    queryFn: () => take(http.GET('/api/alarms/performance', { params: { query: asked } })),
  });
  const [order, setOrder] = useState<RuleOrder>('count');
  const history = (from: number, until: number, more: object = {}) =>
    go({ part: 'history', span: Math.round((until - from) / 1000), end: until, state: 'came', ...more });
  const show = (measure: Measure, figures: Figures) => {
    const sorted = BEHIND[measure];
    if (sorted) {
      setOrder(sorted);
      document.getElementById('rules-behind')?.scrollIntoView();
      return;
    }
    const [from, until] = [Date.parse(figures.from), Date.parse(figures.to)];
    const flood = figures.floods[0];
    if (measure === 'most') history(Date.parse(figures.most_at), Date.parse(figures.most_at) + 600_000);
    else if (measure === 'flooded' && flood) history(Date.parse(flood.from), Date.parse(flood.to));
    else history(from, until, measure === 'urgent' ? { priorities: '43' } : {});
  };
  const figures = found.data;
  return (
    <section aria-label="Performance" className="flex min-h-0 flex-1 flex-col">
      <div className="mb-2 flex flex-wrap items-center gap-3">
        <h2 className="font-semibold">{figures ? `${counted(figures.count, 'alarm')} came` : 'Alarms'}</h2>
        {(names.length > 0 || area) && (
          <Choice
            className="w-52"
            aria-label="Operator area"
            value={area ?? ALL}
            onChange={(e) => go({ area: e.target.value === ALL ? undefined : e.target.value })}
          >
            <option value={ALL}>all operator areas</option>
            {names.map((name) => (
              <option key={name} value={name}>
                {name}
              </option>
            ))}
            <option value={NONE}>watched by no area</option>
          </Choice>
        )}
        <PeriodPart period={period} onPick={({ span, end }) => go({ span, end })}>
          {periodWords(period)}
        </PeriodPart>
        {figures && <Counted figures={figures} />}
      </div>
      <Trouble error={found.error} />
      {figures && figures.rules.length === 0 && (
        <Empty title="No alarms in this period">
          Choose another period or place. What operators were not told, and what is only recorded, is not counted.
        </Empty>
      )}
      {figures && figures.rules.length > 0 && (
        <div className="min-h-0 flex-1 space-y-4 overflow-y-auto pr-1">
          <div className="grid grid-cols-[minmax(0,1.25fr)_minmax(0,1fr)] items-start gap-x-6 gap-y-3">
            <Guide figures={figures.figures} onShow={(measure) => show(measure, figures)} />
            <div className="space-y-3">
              <Course figures={figures} />
              <Spread label="Spread over priorities" count={(priority) => figures.by_priority[priority - 1] ?? 0} />
              <Times figures={figures} />
            </div>
          </div>
          {figures.areas.length > 0 && <Areas areas={figures.areas} onOpen={(name) => go({ area: name || NONE })} />}
          <Floods figures={figures} onOpen={history} />
          <RuleFigures
            figures={figures}
            order={order}
            onOrder={setOrder}
            onHistory={(rule) => history(Date.parse(figures.from), Date.parse(figures.to), { of: rule })}
          />
        </div>
      )}
    </section>
  );
}

/** What was counted, where that is not the whole period. */
function Counted({ figures }: { figures: Figures }) {
  const { span, end } = useView();
  const asked = (end ?? Date.parse(figures.to)) - (span ?? USUAL) * 1000;
  const later = Date.parse(figures.from) - asked > 60_000;
  return (
    <p className="text-soft">
      {later && `counted from ${moment(figures.from, 0)}, the first event in history`}
      {later && figures.unknown_s > 0 && '; '}
      {figures.unknown_s > 0 && `nothing recorded for ${lasting(figures.unknown_s * 1000)} of it, left out of the averages`}
      {figures.more && '. There are more events than are counted: choose a shorter period.'}
    </p>
  );
}

const ICONS = { met: Check, near: TriangleAlert, missed: X } as const;

/** Whether a figure is as the guides have it: a sign, a word, a colour. */
function GradeMark({ grade, outcome }: Pick<Figure, 'grade' | 'outcome'>) {
  const Icon = ICONS[grade as keyof typeof ICONS] ?? X;
  return (
    <span className={grade === 'met' ? 'text-ink' : grade === 'near' ? 'text-act3' : 'text-act4'}>
      <Icon aria-hidden className="mr-1 inline size-3.5 align-[-0.15em]" />
      {outcome}
    </span>
  );
}

function Guide({ figures, onShow }: { figures: readonly Figure[]; onShow: (measure: Measure) => void }) {
  return (
    <table aria-label="Figures and guides" className="w-full">
      <thead>
        <tr className="text-left text-sm text-soft">
          <th className="pb-1 font-normal">For one operator</th>
          <th className="pr-3 pb-1 text-right font-normal">Here</th>
          <th className="pb-1 font-normal">Guide</th>
          <th className="pb-1 font-normal">
            <span className="sr-only">Outcome</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {figures.map((figure) => {
          const measure = figure.measure as Measure;
          return (
            <tr key={measure} className="border-t border-line">
              <td className="py-1 pr-3">
                <button type="button" className="text-left hover:text-teal hover:underline" onClick={() => onShow(measure)}>
                  {figure.title}
                </button>
              </td>
              <td className="figures py-1 pr-3 text-right font-semibold whitespace-nowrap">{figure.printed}</td>
              <td className="py-1 pr-3 text-soft">{figure.guide}</td>
              <td className="py-1 whitespace-nowrap">
                <GradeMark {...figure} />
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

function Times({ figures }: { figures: Figures }) {
  const line = (name: string, times: Figures['acknowledged']) => (
    <tr className="border-t border-line">
      <td className="py-0.5">{name}</td>
      <td className="figures text-right">{times.count.toLocaleString('en')}</td>
      {[times.median_s, times.ninth_s, times.longest_s].map((seconds, i) => (
        // biome-ignore lint/suspicious/noArrayIndexKey: three figures that stand still
        <td key={i} className="figures pl-3 text-right whitespace-nowrap">
          {times.count ? lasting(seconds * 1000) : '–'}
        </td>
      ))}
    </tr>
  );
  return (
    <table aria-label="How long it took" className="w-full">
      <thead>
        <tr className="text-right text-sm text-soft">
          <th className="text-left font-normal">How long it took</th>
          <th className="font-normal">alarms</th>
          <th className="font-normal">half by</th>
          <th className="font-normal">9 of 10 by</th>
          <th className="font-normal">longest</th>
        </tr>
      </thead>
      <tbody>
        {line('to acknowledge', figures.acknowledged)}
        {line('to return to normal', figures.returned)}
      </tbody>
    </table>
  );
}

/** The figures of an area, with short names. */
const OF_AREA = { average: 'in 10 min, on average', most: 'most in 10 min', flooded: 'time in floods', stale: 'over 24 h' };

function Areas({ areas, onOpen }: { areas: readonly Schemas['AreaFigures'][]; onOpen: (name: string) => void }) {
  return (
    <section aria-label="Operator areas">
      <h3 className="mb-1 font-semibold">Operator areas</h3>
      <table className="w-full">
        <thead>
          <tr className="text-right text-sm text-soft">
            <th className="text-left font-normal">Area</th>
            <th className="font-normal">alarms</th>
            {Object.values(OF_AREA).map((short) => (
              <th key={short} className="pl-3 font-normal">
                {short}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {areas.map((area) => (
            <tr key={area.name} className="border-t border-line text-right">
              <td className="py-0.5 text-left">
                <button type="button" className="hover:text-teal hover:underline" onClick={() => onOpen(area.name)}>
                  {area.name || 'watched by no area'}
                </button>
              </td>
              <td className="figures">{area.count.toLocaleString('en')}</td>
              {Object.keys(OF_AREA).map((measure) => {
                const figure = area.figures.find((one) => one.measure === measure);
                return (
                  <td key={measure} className="pl-3 whitespace-nowrap">
                    {figure && (
                      <>
                        <span className="figures mr-2 font-semibold">{figure.printed}</span>
                        <GradeMark {...figure} />
                      </>
                    )}
                  </td>
                );
              })}
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Floods({ figures, onOpen }: { figures: Figures; onOpen: (from: number, to: number) => void }) {
  if (figures.floods.length === 0) return <p className="text-soft">No floods: never more than 10 alarms in 10 min.</p>;
  return (
    <section aria-label="Floods">
      <h3 className="mb-1 font-semibold">{counted(figures.floods.length, 'flood')}, the newest first</h3>
      <ol className="space-y-1.5">
        {figures.floods.slice(0, 10).map((flood) => {
          const [from, to] = [Date.parse(flood.from), Date.parse(flood.to)];
          return (
            <li
              key={flood.from}
              className="grid grid-cols-[11rem_9.5rem_minmax(0,1fr)_auto] items-center gap-x-3 border-t border-line pt-1"
            >
              <span className="figures">{moment(from, 0)}</span>
              <span>
                {counted(flood.count, 'alarm')} in {lasting(to - from)}
              </span>
              <span className="truncate text-soft" title={flood.first.map((one) => `${one.place} ${one.title}`).join('\n')}>
                first {flood.first.map((one) => `${one.place} ${one.title}`).join(', ')}
              </span>
              <Button kind="quiet" className="h-6" onClick={() => onOpen(from, to)}>
                Its alarms
              </Button>
            </li>
          );
        })}
      </ol>
    </section>
  );
}
