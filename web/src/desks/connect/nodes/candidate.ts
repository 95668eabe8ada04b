// What is chosen of a tree of nodes, as rows of the intake.

import type { Point, TagSet } from '../../../api/model';
import { textOf } from '../../../parts/form';
import { type Place, partsOf, pathOf, placeOf } from '../../../parts/nodes/tree';
import { blank, type Candidate } from '../candidates';

/** The rows of the intake of a connection, by the name under which they are kept. */
export const intakeDraft = (connection: string) => `nodes ${connection}`;

/** The row of the intake that a node begins as; `home`: where it lies, if that is known. */
export function candidateOf(chosen: Place, places: readonly string[], note: string, home?: string): Candidate {
  const { offer } = chosen;
  const path = pathOf(chosen);
  const set: Partial<Pick<TagSet, 'unit' | 'decimals' | 'range_low' | 'range_high'>> = offer.set;
  // A value and what it is made of stand in the place of the object that has it.
  const above = chosen.above.filter(({ point }) => point === null).map((one) => one.name);
  const parts = partsOf(chosen);
  // An element has only its number: it is called after its array.
  const index = offer.inside && /^\[(\d+)\]$/.exec(offer.name)?.[1];
  const name = index ? `${path.at(-1)} ${index}` : offer.name;
  return {
    ...blank(JSON.stringify(offer.point), parts, [...path, offer.name].join(' / '), offer.point as Partial<Point>),
    named: true,
    name,
    place: (home ?? placeOf(above, places)).replaceAll('/', ' / '),
    filled: { name: true, place: true },
    unit: set.unit ?? '',
    decimals: textOf(set.decimals),
    low: textOf(set.range_low),
    high: textOf(set.range_high),
    note,
    stateNames: offer.states,
  };
}
