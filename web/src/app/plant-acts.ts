// What can be done with the chosen places of the plant column.

import { useMemo, useRef, useSyncExternalStore } from 'react';
import { toast } from 'sonner';
import { http, take } from '../api/client';
import type { Level } from '../api/model';
import { childrenOf, type Spot } from '../api/places';
import { commit, type Edit, made } from '../api/queries';
import { foresee, type PlantTree, pathOf } from '../api/tree';
import { complain } from '../parts/form';
import { counted } from '../parts/text';
import { liesUnder, moveEdits, orderBetween, type Target, topsOf } from './tree';

/** What was cut or copied, until it is pasted or something else is. */
interface Clip {
  mode: 'cut' | 'copy';
  ids: string[];
}

let clip: Clip | null = null;
const listeners = new Set<() => void>();

function setClip(next: Clip | null) {
  clip = next;
  for (const listener of listeners) listener();
}

export function useClip(): Clip | null {
  return useSyncExternalStore(
    (listener) => {
      listeners.add(listener);
      return () => listeners.delete(listener);
    },
    () => clip,
  );
}

const LEVELS: Level[] = ['site', 'area', 'line', 'unit', 'equipment', 'device'];

/** What a new place under another usually is. */
export function levelBelow(level: string | undefined): Level {
  return LEVELS[Math.min(level ? LEVELS.indexOf(level as Level) + 1 : 0, LEVELS.length - 1)] ?? 'unit';
}

export interface PlantActs {
  move: (ids: Iterable<string>, to: Target) => void;
  /** Among its siblings, or out of and into them. */
  shift: (ids: string[], way: 'up' | 'down' | 'out' | 'in') => void;
  cut: (ids: string[]) => void;
  copy: (ids: string[]) => void;
  paste: (to: string | null) => void;
  rename: (id: string, name: string) => Promise<boolean>;
  /** Makes a place under another. */
  create: (id: string, under: string | null, name: string, level: Level) => Promise<void>;
  service: (ids: string[], on: boolean) => void;
}

/** A place as an edit of it makes it. */
function become(tree: PlantTree, edit: Edit<'place'>): Spot | undefined {
  const spot = tree.byId.get(edit.id);
  return spot && edit.op === 'patch' ? { ...spot, ...(edit.set as Partial<Spot>) } : undefined;
}

/** The last move that was sent: what was seen of the plant by its end. */
let sent: Promise<number> = Promise.resolve(0);

/** Sends a move once the one before has been answered: a second stroke on the same place follows the first, and does not
 * clash with it. What anybody else changed in between is still refused. */
function inTurn(why: string, seen: number, edits: Edit[]): Promise<number> {
  const before = sent;
  const done = before.then(async (own) => {
    const from = Math.max(seen, own);
    const revision = await commit(why, from, edits);
    return revision === from + 1 ? revision : 0;
  });
  sent = done.catch(() => 0);
  return done;
}

/** `choose` is called with what was made or moved, so that it can be seen. */
export function usePlantActs(tree: PlantTree | undefined, choose: (ids: string[]) => void): PlantActs {
  const now = useRef({ tree, choose });
  now.current = { tree, choose };
  return useMemo(() => {
    const title = (ids: string[]) => {
      const paths = ids.slice(0, 3).map((id) => pathOf(now.current.tree, id));
      return ids.length > 3 ? counted(ids.length, 'branch', 'branches') : paths.join(', ');
    };
    const move = (ids: Iterable<string>, to: Target) => {
      const { tree } = now.current;
      if (!tree) return;
      const tops = topsOf(tree.byId, ids);
      if (to.parent && tops.some((id) => liesUnder(tree.byId, to.parent ?? '', id))) {
        toast.error('A place cannot go under itself.');
        return;
      }
      const edits = moveEdits(tree, tops, to);
      if (edits.length === 0) return;
      const why = `Moved ${title(tops)} to ${to.parent ? pathOf(tree, to.parent) : 'the top'}`.slice(0, 400);
      // At once, so that whatever key comes next acts on what was moved, and sees it where it goes.
      now.current.choose(tops);
      const back = foresee(edits.map((edit) => become(tree, edit)).filter((spot) => spot !== undefined));
      inTurn(why, tree.revision, edits).catch((error) => {
        back();
        complain(error);
      });
    };
    const acts: PlantActs = {
      move,
      shift: (ids, way) => {
        const { tree } = now.current;
        const first = ids[0] ? tree?.byId.get(ids[0]) : undefined;
        if (!tree || !first) return;
        const parent = first.parent ?? null;
        const siblings = childrenOf(tree, parent);
        const places = siblings.map((s) => ids.includes(s.id));
        const [from, to] = [places.indexOf(true), places.lastIndexOf(true)];
        if (way === 'up' && from > 0) move(ids, { parent, before: siblings[from - 1]?.id });
        if (way === 'down' && to < siblings.length - 1) move(ids, { parent, before: siblings[to + 2]?.id });
        if (way === 'in' && from > 0) move(ids, { parent: siblings[from - 1]?.id ?? null, before: undefined });
        if (way === 'out' && parent) {
          const above = tree.byId.get(parent);
          const beside = childrenOf(tree, above?.parent ?? null);
          move(ids, { parent: above?.parent ?? null, before: beside[beside.findIndex((s) => s.id === parent) + 1]?.id });
        }
      },
      cut: (ids) => setClip({ mode: 'cut', ids }),
      copy: (ids) => setClip({ mode: 'copy', ids }),
      paste: (to) => {
        const { tree } = now.current;
        if (!clip || !tree) return;
        if (clip.mode === 'cut') {
          move(clip.ids, { parent: to, before: undefined });
          setClip(null);
          return;
        }
        take(http.POST('/api/places/copy', { body: { places: clip.ids, to } }))
          .then(async (done) => {
            now.current.choose(done.places);
            await made(done.revision);
          })
          .catch(complain);
      },
      rename: async (id, name) => {
        const { tree } = now.current;
        if (!tree || tree.byId.get(id)?.name === name) return true;
        try {
          await commit(`Renamed ${pathOf(tree, id)} to ${name}`, tree.revision, [
            { op: 'patch', kind: 'place', id, set: { name } },
          ]);
          return true;
        } catch (error) {
          complain(error);
          return false;
        }
      },
      create: async (id, under, name, level) => {
        const { tree } = now.current;
        if (!tree) return;
        const siblings = childrenOf(tree, under);
        const order = orderBetween(siblings.at(-1)?.order, undefined);
        try {
          const set = { name, level, order, ...(under ? { parent: under } : {}) };
          await commit(`Added ${level} ${name}`, tree.revision, [{ op: 'create', kind: 'place', id, set }]);
        } catch (error) {
          complain(error);
        }
      },
      service: (ids, on) => {
        const { tree } = now.current;
        if (!tree) return;
        const why = on ? `Put ${title(ids)} into service` : `Took ${title(ids)} out of service`;
        commit(
          why.slice(0, 400),
          tree.revision,
          ids.map((id) => ({ op: 'patch', kind: 'place', id, set: { in_service: on } })),
        ).catch(complain);
      },
    };
    return acts;
  }, []);
}
