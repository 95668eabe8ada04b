// The rules whose alarms came or stood in a period, by how often or how long.

import clsx from 'clsx';
import { useState } from 'react';
import type { Schemas } from '../../api/client';
import { useGo } from '../../app/view';
import { Pips } from '../../parts/pips';
import { counted, lasting, moment } from '../../parts/text';
import { Button } from '../../parts/ui';

export type RuleOrder = 'count' | 'chattering' | 'fleeting' | 'standing_s';

const COLUMNS: readonly [RuleOrder, string][] = [
  ['count', 'Came'],
  ['chattering', 'Chattering'],
  ['fleeting', 'Fleeting'],
  ['standing_s', 'Stood'],
];
/** So many are shown first. */
const FIRST = 25;

interface Props {
  figures: Schemas['PerformanceView'];
  order: RuleOrder;
  onOrder: (order: RuleOrder) => void;
  onHistory: (rule: string) => void;
}

export function RuleFigures({ figures, order, onOrder, onHistory }: Props) {
  const go = useGo();
  const [all, setAll] = useState(false);
  const sorted = [...figures.rules].sort((a, b) => b[order] - a[order]);
  const shown = all ? sorted : sorted.slice(0, FIRST);
  return (
    <section aria-label="Rules behind it" id="rules-behind" className="pb-2">
      <h3 className="mb-1 font-semibold">
        {counted(figures.rules_in_all, 'rule')} with an alarm that came or stood
        {figures.rules_in_all > figures.rules.length && `, the ${figures.rules.length} most frequent`}
      </h3>
      <table aria-label="Rules" className="w-full">
        <thead className="sticky top-0 bg-paper">
          <tr className="text-right text-sm text-soft">
            <th className="text-left font-normal">Alarm</th>
            {COLUMNS.map(([key, title]) => (
              <th key={key} aria-sort={order === key ? 'descending' : 'none'} className="pl-3 font-normal">
                <button
                  type="button"
                  className={clsx('hover:text-teal', order === key && 'font-semibold text-ink')}
                  onClick={() => onOrder(key)}
                >
                  {title}
                  {order === key && ' ↓'}
                </button>
              </th>
            ))}
            <th className="pl-3 text-left font-normal">Stands since</th>
            <th>
              <span className="sr-only">Go on</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {shown.map((of) => (
            <tr key={of.rule} className="border-t border-line text-right">
              <td className="max-w-0 py-0.5 text-left">
                <span className="flex items-center gap-2">
                  <Pips priority={of.priority} state="acknowledged" quiet />
                  <span className="truncate">
                    <span className="text-soft">{of.place && `${of.place} · `}</span>
                    {of.title}
                  </span>
                </span>
              </td>
              <td className="figures w-20">{of.count.toLocaleString('en')}</td>
              <td className="figures w-24">{of.chattering || '–'}</td>
              <td className="figures w-20">{of.fleeting || '–'}</td>
              <td className="figures w-20 whitespace-nowrap">{of.standing_s > 0 ? lasting(of.standing_s * 1000) : '–'}</td>
              <td className="figures w-32 pl-3 text-left whitespace-nowrap">{of.since && moment(of.since)}</td>
              <td className="w-40 whitespace-nowrap">
                <Button kind="quiet" className="h-6 px-1.5" onClick={() => onHistory(of.rule)}>
                  History
                </Button>
                <Button
                  kind="quiet"
                  className="h-6 px-1.5"
                  disabled={!of.exists}
                  onClick={() => go({ part: 'rules', rule: of.rule })}
                >
                  Rule
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {sorted.length > FIRST && (
        <Button kind="quiet" onClick={() => setAll(!all)}>
          {all ? `Show the first ${FIRST}` : `Show all ${sorted.length}`}
        </Button>
      )}
    </section>
  );
}
