// The columns of the sheet of tags: those that are written, as the server has them, and those that are only shown.

import type { Schemas } from '../../api/client';
import { PROOF_WORDS, type Proof } from '../../app/loop-check';
import type { GridColumn } from '../../parts/grid';
import { Value } from '../../parts/value';
import { type Offers, type ServerColumn, writtenColumns } from '../../parts/written-columns';

export type TagRow = Schemas['TagRow'];

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

/** Every column there is, by its name. */
export function allColumns(server: readonly ServerColumn[], offers: Offers): Map<string, GridColumn<TagRow>> {
  return new Map([...writtenColumns<TagRow>(server, offers, 'name', OWN_WIDTHS), ...SHOWN].map((c) => [c.key, c]));
}
