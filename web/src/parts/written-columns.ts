// The columns of a table that are written in a sheet, as the server has them.

import type { Schemas } from '../api/client';
import type { GridColumn } from './grid';
import { pathEnd } from './text';

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

/** Words that cells offer while they are typed. */
export interface Offers {
  places?: string[];
  connections?: string[];
  states?: string[];
  units?: string[];
}

function offered(column: ServerColumn, offers: Offers): string[] | undefined {
  switch (column.cell) {
    case 'yes_no':
      return ['yes', 'no'];
    case 'choice':
      return column.choices;
    case 'place':
      return offers.places;
    case 'connection':
      return offers.connections;
    case 'states':
      return offers.states;
    case 'unit':
      return offers.units;
    default:
      return undefined;
  }
}

/** The end of a tag’s path, with the equipment that its own stands in: “Wash tank 1 / Pump / Tripped”. */
const tagEnd = (path: string) => path.split('/').slice(-3).join(' / ');

/** A choice as people read it: “high high” for `high_high`. */
const wordsOf = (text: string) => text.replaceAll('_', ' ');

/** Every written column; `pinned` stays in sight, and some have widths of their own. */
export function writtenColumns<R>(
  server: readonly ServerColumn[],
  offers: Offers,
  pinned: string,
  widths: Readonly<Record<string, number>>,
): GridColumn<R>[] {
  return server.map((c) => {
    const words = offered(c, offers);
    return {
      key: c.key,
      title: c.title,
      width: widths[c.key] ?? WIDTHS[c.cell] ?? 112,
      right: c.cell === 'number' || c.cell === 'whole',
      sort: true,
      ...(words ? { offers: words } : {}),
      ...(c.key === pinned ? { pinned: true } : {}),
      ...(c.cell === 'place' ? { print: pathEnd } : c.cell === 'tag' ? { print: tagEnd } : {}),
      ...(c.cell === 'choice' ? { print: wordsOf } : {}),
    };
  });
}
