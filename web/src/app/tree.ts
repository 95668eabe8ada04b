// The plant tree as rows: what is open, how deep, what is wrong under it, and what moving in it comes to.

import { bySiblings, childrenOf, type Node, type Plant, type Spot } from '../api/places';
import type { Alarm, Edit } from '../api/queries';

/** The places to show, top down, leaving out what lies under closed ones. */
export function rowsOf(nodes: readonly Node[], isOpen: (id: string, depth: number) => boolean): Node[] {
  const rows: Node[] = [];
  const walk = (list: readonly Node[], depth: number) => {
    for (const node of list) {
      rows.push(node);
      if (node.children.length > 0 && isOpen(node.spot.id, depth)) walk(node.children, depth + 1);
    }
  };
  walk(nodes, 0);
  return rows;
}

/** How deep a place stands, and whether it or a place above it is out of service. */
export function standing(byId: ReadonlyMap<string, Spot>, spot: Spot): { depth: number; idle: boolean } {
  let [depth, idle] = [0, !spot.in_service];
  let above = spot.parent ? byId.get(spot.parent) : undefined;
  for (; above && depth < 64; depth += 1) {
    idle ||= !above.in_service;
    above = above.parent ? byId.get(above.parent) : undefined;
  }
  return { depth, idle };
}

/** What was found among siblings for some words. */
type Findings = WeakMap<readonly Node[], readonly Node[]>;

/** Those of the places whose name holds every word, with all above them. A branch of which nothing is left out is shown as it
 * is; what is known already is not looked through again. */
function holding(nodes: readonly Node[], words: readonly string[], known: Findings): readonly Node[] {
  const done = known.get(nodes);
  if (done) return done;
  let left: Node[] | undefined;
  for (let i = 0; i < nodes.length; i += 1) {
    const node = nodes[i] as Node;
    const children = node.children.length > 0 ? holding(node.children, words, known) : node.children;
    const wanted = children.length > 0 || words.every((w) => node.low.includes(w));
    if (!left && wanted && children === node.children) continue;
    left ??= nodes.slice(0, i);
    if (wanted) left.push(children === node.children ? node : { ...node, children });
  }
  const kept = left ?? nodes;
  known.set(nodes, kept);
  return kept;
}

/** Finds the places whose name holds every word of a text, each where it stands. It remembers the steps of the text: a letter more
 * looks only at what was found before, and after a change of the plant only at what lies above the change. */
export function finder(): (nodes: readonly Node[], text: string) => readonly Node[] {
  const steps: { text: string; words: string[]; known: Findings }[] = [];
  return (nodes, typed) => {
    const text = typed.trim().toLowerCase();
    while (steps.length > 0 && !text.startsWith(steps.at(-1)?.text ?? '')) steps.pop();
    if (text !== (steps.at(-1)?.text ?? '')) steps.push({ text, words: text.split(/\s+/), known: new WeakMap() });
    return steps.reduce((list, { words, known }) => holding(list, words, known), nodes);
  };
}

/** Some places in the order of the tree. Looks only where they lie. */
export function inOrder({ byId, top }: Plant, wanted: Iterable<string>): { spot: Spot; idle: boolean }[] {
  const ids = new Set(wanted);
  const ways = new Set<string>();
  for (const id of ids) {
    for (let at = byId.get(id); at && !ways.has(at.id); at = at.parent ? byId.get(at.parent) : undefined) ways.add(at.id);
  }
  const list: { spot: Spot; idle: boolean }[] = [];
  const walk = (nodes: readonly Node[], above: boolean) => {
    for (const { spot, children } of nodes) {
      if (!ways.has(spot.id)) continue;
      const idle = above || !spot.in_service;
      if (ids.has(spot.id)) list.push({ spot, idle });
      walk(children, idle);
    }
  };
  walk(top, false);
  return list;
}

const known = new WeakMap<readonly Node[], string[]>();

/** The path of every place, in the order of the tree; worked out once for a tree. */
export function pathsInOrder(nodes: readonly Node[]): string[] {
  const done = known.get(nodes);
  if (done) return done;
  const list: string[] = [];
  const walk = (nodes: readonly Node[], above: string) => {
    for (const { spot, children } of nodes) {
      list.push(above + spot.name);
      walk(children, `${above}${spot.name}/`);
    }
  };
  walk(nodes, '');
  known.set(nodes, list);
  return list;
}

/** The alarms under each place, its own included. */
export function alarmsUnder(byId: ReadonlyMap<string, Spot>, alarms: readonly Alarm[]): Map<string, Alarm[]> {
  const under = new Map<string, Alarm[]>();
  for (const alarm of alarms) {
    let at: string | null | undefined = alarm.place;
    for (let depth = 0; at && depth < 64; depth += 1) {
      const list = under.get(at) ?? [];
      list.push(alarm);
      under.set(at, list);
      at = byId.get(at)?.parent;
    }
  }
  return under;
}

/** Counts of single places rolled up to every place above. A place that counts as one gives one to the place above it, however
 * much is wrong there, so that where people manage they count things and not tags. Looks only at places that are concerned. */
export function rolledUp(byId: ReadonlyMap<string, Spot>, counts: Readonly<Record<string, number>>): Map<string, number> {
  const depths = new Map<string, number>();
  for (const id of Object.keys(counts)) {
    const above: string[] = [];
    let at: string | null | undefined = id;
    while (at && byId.has(at) && !depths.has(at) && above.length < 64) {
      above.push(at);
      at = byId.get(at)?.parent;
    }
    const start = (at && depths.get(at)) ?? -1;
    above.reverse().forEach((place, i) => {
      depths.set(place, Number(start) + 1 + i);
    });
  }
  const sums = new Map<string, number>();
  // The deepest first: what lies under a place is counted before the place itself.
  for (const [id] of [...depths].sort((a, b) => b[1] - a[1])) {
    const total = (sums.get(id) ?? 0) + (counts[id] ?? 0);
    if (total === 0) continue;
    sums.set(id, total);
    const spot = byId.get(id);
    if (spot?.parent && depths.has(spot.parent)) {
      sums.set(spot.parent, (sums.get(spot.parent) ?? 0) + (spot.one ? 1 : total));
    }
  }
  return sums;
}

/** How many alarms stand at each place itself. */
export function alarmCounts(alarms: readonly Alarm[]): Record<string, number> {
  const counts: Record<string, number> = {};
  for (const { place } of alarms) if (place) counts[place] = (counts[place] ?? 0) + 1;
  return counts;
}

/** The order that puts a place before or after its siblings, halfway between two of them. */
export function orderBetween(before: number | undefined, after: number | undefined): number {
  if (before === undefined) return (after ?? 1) - 1;
  return after === undefined ? before + 1 : (before + after) / 2;
}

/** Whether a place is another one or lies under it. */
export function liesUnder(byId: ReadonlyMap<string, Spot>, id: string, top: string): boolean {
  let at: string | null | undefined = id;
  for (let depth = 0; at && depth < 64; depth += 1) {
    if (at === top) return true;
    at = byId.get(at)?.parent;
  }
  return false;
}

/** Those of the places that lie under none of the others. */
export function topsOf(byId: ReadonlyMap<string, Spot>, ids: Iterable<string>): string[] {
  const all = [...ids];
  return all.filter((id) => byId.has(id) && !all.some((other) => other !== id && liesUnder(byId, id, other)));
}

/** Where something goes: under a place (null is the top), in front of a sibling or behind all. */
export interface Target {
  parent: string | null;
  before: string | undefined;
}

/** Where a drop at a row leads: in front of it, behind it, or into it. */
export function targetAt(plant: Plant, spot: Spot, zone: 'before' | 'into' | 'after'): Target {
  if (zone === 'into') return { parent: spot.id, before: undefined };
  if (zone === 'before') return { parent: spot.parent ?? null, before: spot.id };
  const siblings = childrenOf(plant, spot.parent ?? null);
  return { parent: spot.parent ?? null, before: siblings[siblings.findIndex((s) => s.id === spot.id) + 1]?.id };
}

/** Two orders must lie further apart than this to put something between them. */
const CLOSEST = 1e-6;

/** The edits that bring places somewhere, side by side in their order. Nothing where they cannot go there:
 * under themselves, or where they are already. */
export function moveEdits(plant: Plant, ids: Iterable<string>, to: Target): Edit<'place'>[] {
  const { byId } = plant;
  const tops = topsOf(byId, ids);
  const { parent } = to;
  if (tops.length === 0 || (parent && tops.some((id) => liesUnder(byId, parent, id)))) return [];
  const chosen = new Set(tops);
  const moving = tops.flatMap((id) => byId.get(id) ?? []).sort(bySiblings);
  const all = childrenOf(plant, parent);
  const there = all.filter((p) => !chosen.has(p.id));
  // In front of one that moves itself means in front of the next that stays.
  const from = to.before ? all.findIndex((p) => p.id === to.before) : all.length;
  const stays = all.slice(Math.max(from, 0)).find((p) => !chosen.has(p.id));
  const index = stays ? there.indexOf(stays) : there.length;
  const line = [...there.slice(0, index), ...moving, ...there.slice(index)];
  if (moving.every((p) => (p.parent ?? null) === parent) && line.every((p, i) => p.id === all[i]?.id)) return [];
  const [low, high] = [there[index - 1]?.order, there[index]?.order];
  const room = low === undefined || high === undefined ? 1 : (high - low) / (moving.length + 1);
  const patch = (spot: Spot, order: number): Edit<'place'> => ({
    op: 'patch',
    kind: 'place',
    id: spot.id,
    set: { order, ...((spot.parent ?? null) === parent ? {} : { parent }) },
  });
  if (room < CLOSEST) return line.map((spot, i) => patch(spot, i + 1));
  const start = low ?? (high ?? 1) - moving.length - 1;
  return moving.map((spot, i) => patch(spot, start + room * (i + 1)));
}

const LEVELS = ['site', 'area', 'line', 'unit', 'equipment', 'device'];

/** What is unusual about a level under another one, after the standards; it is not forbidden. */
export function nestingWords(level: string, above: string | undefined): string | undefined {
  if (!above || LEVELS.indexOf(level) > LEVELS.indexOf(above)) return undefined;
  // Equipment within equipment and devices within devices are common.
  if (level === above && (level === 'equipment' || level === 'device' || level === 'unit')) return undefined;
  const a = (word: string) => `${/^[aeiou]/.test(word) && word !== 'unit' ? 'an' : 'a'} ${word}`;
  return `${a(level)} under ${a(above)} is unusual`.replace(/^./, (c) => c.toUpperCase());
}
