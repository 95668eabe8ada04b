// Places as a tree that is shared between revisions: a change makes anew only what lies above it.

import type { Schemas } from './client';

export type Spot = Schemas['PlaceRow'];

export interface Node {
  spot: Spot;
  /** Its name as it is sought. */
  low: string;
  children: readonly Node[];
}

/** The places of a plant, by their ids and as a tree. */
export interface Plant {
  byId: ReadonlyMap<string, Spot>;
  /** The uppermost places, with all under them. */
  top: readonly Node[];
}

const names = new Intl.Collator('en', { numeric: true });

export function bySiblings(a: Spot, b: Spot): number {
  return a.order - b.order || names.compare(a.name, b.name);
}

const byOrder = (a: Node, b: Node) => bySiblings(a.spot, b.spot);

const leaf = (spot: Spot, children: readonly Node[] = []): Node => ({ spot, low: spot.name.toLowerCase(), children });

/** Places as a tree, siblings in the engineer's order. A place whose parent is not there stands at the top. */
export function treeOf(places: Iterable<Spot>): Node[] {
  const under = new Map<string, Node[]>();
  const nodes = new Map<string, Node>();
  for (const spot of places) {
    const children: Node[] = [];
    under.set(spot.id, children);
    nodes.set(spot.id, leaf(spot, children));
  }
  const top: Node[] = [];
  for (const node of nodes.values()) (under.get(node.spot.parent ?? '') ?? top).push(node);
  for (const children of under.values()) if (children.length > 1) children.sort(byOrder);
  return top.sort(byOrder);
}

/** More changes than this and the tree is grown anew. */
const MOST = 200;

/** The ids from the top down to a place; nothing where the way up does not end. */
function wayTo(byId: ReadonlyMap<string, Spot>, id: string): string[] | undefined {
  const way: string[] = [];
  let at: Spot | undefined = byId.get(id);
  while (at) {
    if (way.length > 64) return undefined;
    way.push(at.id);
    at = at.parent ? byId.get(at.parent) : undefined;
  }
  return way.reverse();
}

/** The nodes with what `change` makes of the list of children at the end of a way; all others are the same objects. */
function along(nodes: readonly Node[], way: readonly string[], change: (list: readonly Node[]) => Node[]): readonly Node[] {
  const [first, ...rest] = way;
  if (first === undefined) return change(nodes);
  return nodes.map((n) => (n.spot.id === first ? { ...n, children: along(n.children, rest, change) } : n));
}

function nodeAt(nodes: readonly Node[], way: readonly string[]): Node | undefined {
  let [list, found]: [readonly Node[], Node | undefined] = [nodes, undefined];
  for (const id of way) {
    found = list.find((n) => n.spot.id === id);
    if (!found) return undefined;
    list = found.children;
  }
  return found;
}

/** The places that lie right under one, or uppermost for null, in the engineer's order. */
export function childrenOf(plant: Plant, parent: string | null): Spot[] {
  const way = parent === null ? [] : wayTo(plant.byId, parent);
  const nodes = parent === null ? plant.top : way && nodeAt(plant.top, way)?.children;
  return (nodes ?? []).map((n) => n.spot);
}

function placed(list: readonly Node[], node: Node): Node[] {
  const at = list.findIndex((n) => byOrder(node, n) < 0);
  return at < 0 ? [...list, node] : [...list.slice(0, at), node, ...list.slice(at)];
}

/** The tree after a few changes, or nothing where it is simpler to grow it anew: `after` are the places by their ids, `touched`
 * those that came, changed or went. */
export function regrown(
  { top, byId: before }: Plant,
  after: ReadonlyMap<string, Spot>,
  touched: readonly string[],
): readonly Node[] | undefined {
  if (touched.length > MOST) return undefined;
  const set = new Set(touched);
  // One that lies under another that is touched too would have to be taken apart in the right order; so would orphans.
  const alone = (byId: ReadonlyMap<string, Spot>, id: string) => {
    const spot = byId.get(id);
    if (!spot) return true;
    const way = wayTo(byId, id);
    return way !== undefined && !way.slice(0, -1).some((above) => set.has(above)) && (!spot.parent || byId.has(spot.parent));
  };
  if (![...set].every((id) => alone(before, id) && alone(after, id))) return undefined;
  let nodes = top;
  const taken = new Map<string, Node>();
  for (const id of set) {
    const way = before.has(id) ? wayTo(before, id) : undefined;
    if (!way) continue;
    const node = nodeAt(nodes, way);
    if (!node) return undefined;
    taken.set(id, node);
    nodes = along(nodes, way.slice(0, -1), (list) => list.filter((n) => n.spot.id !== id));
  }
  for (const id of set) {
    const spot = after.get(id);
    if (!spot) {
      // What it held goes with it, or was told to have gone elsewhere.
      if ((taken.get(id)?.children.length ?? 0) > 0) return undefined;
      continue;
    }
    const way = wayTo(after, id);
    if (!way) return undefined;
    const node = leaf(spot, taken.get(id)?.children ?? []);
    nodes = along(nodes, way.slice(0, -1), (list) => placed(list, node));
  }
  return nodes;
}
