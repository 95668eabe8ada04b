// Many rules against what is recorded, one after the other: how many alarms each would have given, and what would calm it.

import { useEffect, useRef, useState } from 'react';
import { http, type Schemas, take } from '../../api/client';
import { useNow } from '../../api/live';
import { useGo } from '../../app/view';
import type { Period } from '../../parts/period';
import { PeriodPart, periodWords } from '../../parts/period-part';
import { Pips } from '../../parts/pips';
import { counted, lasting, spanWords } from '../../parts/text';
import { Button } from '../../parts/ui';
import { calmerWords } from './calmer';
import type { RuleRow } from './rule-columns';

/** So many rules one run goes through; for more, narrow the filter. */
const MOST = 500;
const PAGE = 200;

interface Line {
  row: RuleRow;
  /** What came of it; a sentence where it could not be run. */
  outcome: Schemas['BacktestView'] | string;
}

interface Props {
  /** The rules that the sheet shows. */
  fetch: (from: number, count: number) => Promise<Schemas['RuleSheet']>;
  total: number;
  onClose: () => void;
}

export function BacktestMany({ fetch, total, onClose }: Props) {
  const now = useNow();
  const [chosen, setChosen] = useState<Period>({ span: 86_400, end: undefined });
  const [lines, setLines] = useState<readonly Line[]>([]);
  const [running, setRunning] = useState<{ done: number; of: number }>();
  const [trouble, setTrouble] = useState('');
  const stop = useRef<AbortController>(undefined);
  // Whoever goes elsewhere waits for nothing.
  useEffect(() => () => stop.current?.abort(), []);

  async function run() {
    const halt = new AbortController();
    stop.current = halt;
    const end = chosen.end ?? now;
    const [from, to] = [end - chosen.span * 1000, end].map((at) => new Date(at).toISOString()) as [string, string];
    setLines([]);
    setTrouble('');
    try {
      const rows: RuleRow[] = [];
      while (rows.length < Math.min(total, MOST)) {
        const page = (await fetch(rows.length, PAGE)).rows;
        if (page.length === 0) break;
        rows.push(...page);
      }
      const chosenRows = rows.slice(0, MOST);
      for (const [done, row] of chosenRows.entries()) {
        if (halt.signal.aborted) break;
        setRunning({ done, of: chosenRows.length });
        const body = { tag: row.tag, rule: row.id, set: {}, from, to };
        const asked = take(http.POST('/api/rules/backtest', { body: body as never, signal: halt.signal }));
        const outcome = await asked.then(
          (found) => found as Schemas['BacktestView'],
          (error: unknown) => (error instanceof Error ? error.message : String(error)),
        );
        if (!halt.signal.aborted) setLines((old) => [...old, { row, outcome }]);
      }
    } catch (error) {
      setTrouble(error instanceof Error ? error.message : String(error));
    }
    setRunning(undefined);
  }

  const close = () => {
    stop.current?.abort();
    onClose();
  };
  return (
    <section aria-label="Backtest of many rules" className="mb-2 rounded border border-teal bg-raised p-3">
      <div className="flex flex-wrap items-center gap-2">
        <h3 className="mr-2 font-semibold">Backtest</h3>
        <PeriodPart period={chosen} onPick={setChosen}>
          {chosen.end === undefined ? `The last ${spanWords(chosen.span)}` : periodWords(chosen)}
        </PeriodPart>
        {running ? (
          <>
            <Button onClick={() => stop.current?.abort()}>Cancel</Button>
            <progress aria-label="Rules gone through" className="w-40" value={running.done} max={running.of} />
            <span className="figures">
              {running.done} of {running.of}
            </span>
          </>
        ) : (
          <Button kind="main" disabled={total === 0} onClick={() => void run()}>
            Run {counted(Math.min(total, MOST), 'rule')}
          </Button>
        )}
        <span className="flex-1 text-soft">
          {total > MOST
            ? `The first ${MOST} of ${counted(total, 'rule')} that are shown; narrow the filter for the others.`
            : 'Every rule that is shown, as it is. Nothing is recorded, and nobody is told.'}
        </span>
        <Button onClick={close}>Close</Button>
      </div>
      {trouble && <p className="mt-1 text-act4">{trouble}</p>}
      {lines.length > 0 && <Outcomes lines={lines} />}
    </section>
  );
}

const alarmsOf = ({ outcome }: Line) => (typeof outcome === 'string' || outcome.blind ? -1 : outcome.proposed.alarms);

/** Those with the most alarms first, then those that cannot be judged; rules that stayed quiet are counted. */
function Outcomes({ lines }: { lines: readonly Line[] }) {
  const go = useGo();
  const told = lines.filter((line) => alarmsOf(line) !== 0).sort((a, b) => alarmsOf(b) - alarmsOf(a));
  const quiet = lines.length - told.length;
  const alarms = lines.reduce((sum, line) => sum + Math.max(0, alarmsOf(line)), 0);
  const span = (s: number) => (s > 0 ? lasting(s * 1000) : '–');
  return (
    <>
      <p className="mt-2" aria-live="polite">
        {counted(alarms, 'alarm')} of {counted(lines.length, 'rule')}; {counted(quiet, 'rule')} stayed quiet.
      </p>
      {told.length > 0 && (
        <div className="max-h-64 overflow-y-auto">
          <table aria-label="Outcome of the backtest" className="w-full text-left">
            <thead className="sticky top-0 bg-raised text-sm text-soft">
              <tr>
                <th className="w-8 font-normal" aria-label="Priority" />
                <th className="font-normal">Rule</th>
                <th className="w-16 text-right font-normal">Alarms</th>
                <th className="w-22 text-right font-normal">Chattering</th>
                <th className="w-22 text-right font-normal">Standing</th>
                <th className="w-22 text-right font-normal">Longest</th>
                <th className="w-72 pl-4 font-normal">Calmer</th>
              </tr>
            </thead>
            <tbody>
              {told.map(({ row, outcome }) => (
                <tr key={row.id} className="border-t border-line align-top">
                  <td className="py-1">
                    <Pips priority={row.priority} state="acknowledged" quiet />
                  </td>
                  <td className="py-1 pr-2">
                    <button type="button" className="text-left hover:text-teal" onClick={() => go({ rule: row.id })}>
                      {row.title.split('/').slice(1).join(' / ')}
                    </button>
                  </td>
                  {typeof outcome === 'string' || outcome.blind ? (
                    <td colSpan={5} className="py-1 text-soft">
                      {typeof outcome === 'string' ? outcome : outcome.notes.join(' ')}
                    </td>
                  ) : (
                    <>
                      <td className="figures py-1 text-right">{outcome.proposed.alarms}</td>
                      <td className="figures py-1 text-right">{outcome.proposed.chattering}</td>
                      <td className="figures py-1 text-right">{span(outcome.proposed.standing_s)}</td>
                      <td className="figures py-1 text-right">{span(outcome.proposed.longest_s)}</td>
                      <td className="py-1 pl-4 text-soft">
                        {outcome.calmer
                          ? `${calmerWords(outcome.calmer, row.unit)}: ${counted(outcome.calmer.judged.alarms, 'alarm')}`
                          : ''}
                      </td>
                    </>
                  )}
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </>
  );
}
