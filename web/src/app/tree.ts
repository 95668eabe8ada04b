// The plant tree as rows: what is open, how deep, and what the alarms under it are.

import type { Schemas } from '../api/client';
import type { Item } from '../api/model';

export interface Node {
  item: Item<'place'>;
  children: Node[];
}

/** Places as a tree, siblings in the engineer's order. A place whose parent is not there stands at the top. */
export function treeOf(places: readonly Item<'place'>[]): Node[] {
  const nodes = new Map(places.map((item) => [item.id, { item, children: [] as Node[] }]));
  const top: Node[] = [];
  for (const node of nodes.values()) {
    const parent = node.item.set.parent ? nodes.get(node.item.set.parent) : undefined;
    (parent?.children ?? top).push(node);
  }
  const sort = (list: Node[]) => {
    list.sort((a, b) => a.item.set.order - b.item.set.order || a.item.set.name.localeCompare(b.item.set.name));
    for (const node of list) sort(node.children);
  };
  sort(top);
  return top;
}

export interface Row {
  node: Node;
  depth: number;
}

/** The rows to show, top down, leaving out what lies under closed places. */
export function rowsOf(nodes: readonly Node[], isOpen: (id: string) => boolean, depth = 0): Row[] {
  return nodes.flatMap((node) => [{ node, depth }, ...(isOpen(node.item.id) ? rowsOf(node.children, isOpen, depth + 1) : [])]);
}

type Alarm = Schemas['AlarmView'];

/** The alarms under each place, its own included. */
export function alarmsUnder(places: readonly Item<'place'>[], alarms: readonly Alarm[]): Map<string, Alarm[]> {
  const parents = new Map(places.map((p) => [p.id, p.set.parent]));
  const found = new Map<string, Alarm[]>();
  for (const alarm of alarms) {
    let at: string | null | undefined = alarm.place;
    for (let depth = 0; at && depth < 64; depth += 1) {
      const list = found.get(at) ?? [];
      list.push(alarm);
      found.set(at, list);
      at = parents.get(at);
    }
  }
  return found;
}

/** Counts of single places, summed up to every place above. */
export function sumsUnder(places: readonly Item<'place'>[], counts: Readonly<Record<string, number>>): Map<string, number> {
  const parents = new Map(places.map((p) => [p.id, p.set.parent]));
  const sums = new Map<string, number>();
  for (const [place, count] of Object.entries(counts)) {
    let at: string | null | undefined = place;
    for (let depth = 0; at && depth < 64; depth += 1) {
      sums.set(at, (sums.get(at) ?? 0) + count);
      at = parents.get(at);
    }
  }
  return sums;
}

/** The order that puts a place before or after its siblings, halfway between two of them. */
export function orderBetween(before: number | undefined, after: number | undefined): number {
  if (before === undefined) return (after ?? 1) - 1;
  return after === undefined ? before + 1 : (before + after) / 2;
}
