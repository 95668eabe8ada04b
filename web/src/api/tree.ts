// Every place of the plant in short. Only what changed is asked for again.

import { useQuery } from '@tanstack/react-query';
import { http, type Schemas, take } from './client';
import { type Plant, regrown, type Spot, treeOf } from './places';
import { queries } from './queries';

export interface PlantTree extends Plant {
  revision: number;
}

/** The tree after an answer to what is new since the last one. */
export function merged(last: PlantTree | undefined, answer: Schemas['TreeView']): PlantTree {
  if (answer.whole || !last) {
    const byId = new Map(answer.places.map((spot) => [spot.id, spot]));
    return { revision: answer.revision, byId, top: treeOf(answer.places) };
  }
  // The feed may tell of a revision that is known already: the same tree spares all who work from it.
  if (answer.places.length + answer.gone.length === 0) {
    return last.revision === answer.revision ? last : { ...last, revision: answer.revision };
  }
  return changed(last, answer.revision, answer.places, answer.gone);
}

/** The tree with some places set and some gone. */
export function changed(last: PlantTree, revision: number, set: readonly Spot[], gone: readonly string[]): PlantTree {
  const byId = new Map(last.byId);
  for (const spot of set) byId.set(spot.id, spot);
  for (const id of gone) byId.delete(id);
  const touched = [...set.map((spot) => spot.id), ...gone];
  return { revision, byId, top: regrown(last, byId, touched) ?? treeOf(byId.values()) };
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
    // A tree shares what it can by itself.
    structuralSharing: false,
  }).data;
}

/** Shows places at once as they are about to become; gives what takes that back. */
export function foresee(set: readonly Spot[]): () => void {
  const before = queries.getQueryData<PlantTree>(KEY);
  if (before) queries.setQueryData(KEY, changed(before, before.revision, set, []));
  return () => {
    queries.setQueryData(KEY, before);
    // That tree is older than what came in meanwhile.
    void queries.invalidateQueries({ queryKey: KEY });
  };
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
