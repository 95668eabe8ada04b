// The columns of the sheet of tags: those that are written, as the server has them, and those that are only shown.

import type { Schemas } from '../../api/client';
import { PROOF_WORDS, type Proof } from '../../app/loop-check';
import type { GridColumn } from '../../parts/grid';
import { pathEnd } from '../../parts/text';
import { Value } from '../../parts/value';

export type TagRow = Schemas['TagRow'];
export type ServerColumn = Schemas['ColumnView'];

const WIDTHS: Record<string, number> = {
  text: 112,
  number: 88,
  whole: 80,
  yes_no: 76,
  choice: 104,
  place: 216,
  connection: 120,
  unit: 64,
  states: 120,
  group: 104,
  tag: 150,
  formula: 260,
  rest: 170,
};
const OWN_WIDTHS: Record<string, number> = {
  limit_high_high: 120,
  limit_low_low: 116,
  name: 184,
  note: 220,
  decimals: 80,
};

const SHOWN: GridColumn<TagRow>[] = [
  {
    key: 'now',
    title: 'Now',
    width: 150,
    right: true,
    show: (row) => <Value no={row.no} set={row} own computed={row.source.startsWith('= ')} />,
    carries: (row) => ({ kind: 'tag', id: row.id, title: `${row.place_path}/${row.name}` }),
  },
  { key: 'source_words', title: 'Read from', width: 220, say: (row) => row.source || 'nowhere' },
  { key: 'limits', title: 'Limits', width: 150, say: (row) => row.limits || 'none' },
  { key: 'proof', title: 'Loop check', width: 150, say: (row) => (row.proof ? PROOF_WORDS[row.proof as Proof] : 'no loop') },
  { key: 'service', title: 'Service', width: 110, say: (row) => (row.idle ? 'out of service' : 'in service') },
];

/** What a sheet shows before anybody chose. */
export const FIRST = [
  'name',
  'place',
  'now',
  'unit',
  'range_low',
  'range_high',
  'source_words',
  'record',
  'limit_low',
  'limit_high',
  'connection',
  'address',
  'type',
];

/** Words that cells offer while they are typed. */
export interface Offers {
  places: string[];
  connections: string[];
  states: string[];
  units: string[];
}

/** Every column there is, by its name. */
export function allColumns(server: readonly ServerColumn[], offers: Offers): Map<string, GridColumn<TagRow>> {
  const written = server.map((c): GridColumn<TagRow> => {
    const words =
      c.cell === 'yes_no'
        ? ['yes', 'no']
        : c.cell === 'choice'
          ? c.choices
          : c.cell === 'place'
            ? offers.places
            : c.cell === 'connection'
              ? offers.connections
              : c.cell === 'states'
                ? offers.states
                : c.cell === 'unit'
                  ? offers.units
                  : undefined;
    return {
      key: c.key,
      title: c.title,
      width: OWN_WIDTHS[c.key] ?? WIDTHS[c.cell] ?? 112,
      right: c.cell === 'number' || c.cell === 'whole',
      sort: true,
      ...(words ? { offers: words } : {}),
      ...(c.key === 'name' ? { pinned: true } : {}),
      ...(c.cell === 'place' ? { print: pathEnd } : {}),
    };
  });
  return new Map([...written, ...SHOWN].map((c) => [c.key, c]));
}
