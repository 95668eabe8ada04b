// Every place of the plant in short. Only what changed is asked for again.

import { useQuery } from '@tanstack/react-query';
import { http, type Schemas, take } from './client';
import { queries } from './queries';

export type Spot = Schemas['PlaceRow'];

export interface PlantTree {
  revision: number;
  places: Spot[];
  byId: Map<string, Spot>;
}

/** The tree after an answer to what is new since the last one. */
export function merged(last: PlantTree | undefined, answer: Schemas['TreeView']): PlantTree {
  // The feed may tell of a revision that is known already: the same tree spares all who work from it.
  if (last && !answer.whole && answer.places.length + answer.gone.length === 0) {
    return last.revision === answer.revision ? last : { ...last, revision: answer.revision };
  }
  const byId = answer.whole || !last ? new Map<string, Spot>() : new Map(last.byId);
  for (const spot of answer.places) byId.set(spot.id, spot);
  for (const id of answer.gone) byId.delete(id);
  return { revision: answer.revision, places: [...byId.values()], byId };
}

const KEY = ['tree'];

export function useTree(): PlantTree | undefined {
  return useQuery({
    queryKey: KEY,
    queryFn: async () => {
      const last = queries.getQueryData<PlantTree>(KEY);
      const query = last ? { since: last.revision } : {};
      return merged(last, await take(http.GET('/api/tree', { params: { query } })));
    },
  }).data;
}

/** The names from the top down to a place, joined by “/”; nothing for no place. */
export function pathOf(tree: PlantTree | undefined, id: string | null | undefined): string {
  const names: string[] = [];
  let at = id ? tree?.byId.get(id) : undefined;
  for (let depth = 0; at && depth < 64; depth += 1) {
    names.push(at.name);
    at = at.parent ? tree?.byId.get(at.parent) : undefined;
  }
  return names.reverse().join('/');
}
