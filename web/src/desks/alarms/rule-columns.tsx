// The columns of the sheet of alarm rules: those that are written, and those that are only shown.

import { STATE_WORDS } from '../../api/alarm-state';
import type { Schemas } from '../../api/client';
import type { Alarm } from '../../api/queries';
import type { GridColumn } from '../../parts/grid';
import { Pips } from '../../parts/pips';
import { moment, PRIORITY_WORDS } from '../../parts/text';
import { Value } from '../../parts/value';
import { type ServerColumn, writtenColumns } from '../../parts/written-columns';

export type RuleRow = Schemas['RuleRow'];

const WIDTHS: Record<string, number> = {
  tag: 250,
  kind: 112,
  name: 120,
  priority: 72,
  deadband: 84,
  action: 260,
  cause: 220,
  states: 140,
};

/** What the sheet shows before anybody chose. */
export const FIRST = ['tag', 'kind', 'level', 'priority', 'now', 'state', 'fault', 'deadband', 'on_delay_s', 'action'];

/** Every column there is, by its name; `stateOf` gives the alarm of a rule where it is not normal. */
export function ruleColumns(
  server: readonly ServerColumn[],
  stateOf: (rule: string) => Alarm | undefined,
): Map<string, GridColumn<RuleRow>> {
  const shown: GridColumn<RuleRow>[] = [
    { key: 'now', title: 'Now', width: 130, right: true, show: (row) => <Value no={row.no} set={row} own /> },
    {
      key: 'state',
      title: 'State',
      width: 170,
      show: (row) => {
        const state = row.enabled && row.priority > 0 ? (stateOf(row.id)?.state ?? 'normal') : undefined;
        return (
          <span className="flex items-center gap-2">
            {state && <Pips priority={row.priority} state={state} quiet={state === 'normal'} />}
            {state ? STATE_WORDS[state] : row.enabled ? PRIORITY_WORDS[0] : 'off'}
          </span>
        );
      },
    },
    {
      key: 'argued',
      title: 'Guide gives',
      width: 100,
      right: true,
      say: (row) => (row.argued == null ? '' : String(row.argued)),
    },
    {
      key: 'checked',
      title: 'Checked',
      width: 220,
      say: (row) => row.checked_by && `${row.checked ? '' : 'changed since: '}${row.checked_by}, ${moment(row.checked_at)}`,
    },
    { key: 'fault', title: 'Cannot work', width: 220, say: (row) => row.fault ?? '' },
  ];
  return new Map([...writtenColumns<RuleRow>(server, {}, 'tag', WIDTHS), ...shown].map((c) => [c.key, c]));
}
