// How alarms, or rules, spread over the priorities, beside what the guides have for that (EEMUA 191; ISA-18.2, clause 16).

import { Pips } from '../../parts/pips';
import { PRIORITY_WORDS } from '../../parts/text';

const GUIDE: Record<number, string> = { 4: 'under 1 %', 3: 'about 5 %', 2: 'about 15 %', 1: 'about 80 %' };

/** `count` tells how many have a priority. */
export function Spread({ label, count }: { label: string; count: (priority: number) => number }) {
  const all = [4, 3, 2, 1].reduce((sum, priority) => sum + count(priority), 0);
  return (
    <table aria-label={label} className="w-full">
      <tbody>
        {[4, 3, 2, 1].map((priority) => {
          const share = all ? (100 * count(priority)) / all : 0;
          return (
            <tr key={priority}>
              <td className="w-40 py-0.5">
                <span className="flex items-center gap-2">
                  <Pips priority={priority} state="unacknowledged" quiet />
                  {`${priority} · ${PRIORITY_WORDS[priority]}`}
                </span>
              </td>
              <td className="figures w-14 pr-3 text-right">{count(priority).toLocaleString('en')}</td>
              <td className="figures w-16 pr-3 text-right whitespace-nowrap">{share.toFixed(1)} %</td>
              <td>
                <span
                  className="block h-2 rounded-sm bg-soft"
                  style={{ width: `${share}%`, minWidth: count(priority) ? 2 : 0 }}
                />
              </td>
              <td className="w-24 pl-3 text-right text-sm whitespace-nowrap text-soft">{GUIDE[priority]}</td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}
