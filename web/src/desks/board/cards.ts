// Which cards a place comes to: one for each piece of equipment, with its parts.

import type { Item } from '../../api/model';
import type { Plant, Spot } from '../../api/places';
import { inOrder } from '../../app/tree';

export type Tag = Item<'tag'>;

export interface Section {
  place: Spot;
  tags: Tag[];
}

export interface CardOf extends Section {
  idle: boolean;
  /** The equipment that it stands in, unless that is what was chosen. */
  of: string | undefined;
  /** Equipment that it is made of. */
  parts: Section[];
}

/** Levels that are looked at as a whole, and stand above equipment. */
export const LARGE = ['site', 'area', 'line'];

/** A card for each place with tags; a part stands on the card of the equipment that it belongs to, if that is shown. */
export function cardsOf(tree: Plant, tags: readonly Tag[], at: string | undefined): CardOf[] {
  const byPlace = new Map<string, Tag[]>();
  for (const tag of tags) {
    const of = byPlace.get(tag.set.place);
    if (of) of.push(tag);
    else byPlace.set(tag.set.place, [tag]);
  }
  const whole = (spot: Spot): Spot => {
    let found = spot;
    while (found.part && found.id !== at) {
      const above = found.parent ? tree.byId.get(found.parent) : undefined;
      if (!above) break;
      found = above;
    }
    return found;
  };
  const around = (spot: Spot) => {
    const above = spot.parent && spot.id !== at && spot.parent !== at ? tree.byId.get(spot.parent) : undefined;
    return above && !LARGE.includes(above.level) ? above.name : undefined;
  };
  const cards = new Map<string, CardOf>();
  for (const { spot, idle } of inOrder(tree, byPlace.keys())) {
    const of = whole(spot);
    const card = cards.get(of.id) ?? { place: of, idle, of: around(of), tags: [], parts: [] };
    cards.set(of.id, card);
    if (of.id === spot.id) card.tags = byPlace.get(spot.id) ?? [];
    else card.parts.push({ place: spot, tags: byPlace.get(spot.id) ?? [] });
  }
  return [...cards.values()];
}

/** What stands where on a card: figures as rows, texts in the head, setpoints and switches below. */
export function arrange(tags: readonly Tag[]) {
  const setpoints = new Set(tags.map((t) => t.set.setpoint));
  const isText = (t: Tag) => t.holds === 'text';
  const isBelow = (t: Tag) => setpoints.has(t.id) || t.holds === 'bool';
  return {
    head: tags.filter(isText),
    rows: tags.filter((t) => !isText(t) && !isBelow(t)),
    below: tags.filter((t) => !isText(t) && isBelow(t)),
  };
}
