import { describe, expect, it } from 'vitest';
import { type Node, regrown, type Spot, treeOf } from './places';

const spot = (id: string, parent: string | null, order: number): Spot => ({
  id,
  parent,
  name: id,
  level: 'unit',
  order,
  in_service: true,
  one: false,
  part: false,
});

const byId = (places: readonly Spot[]) => new Map(places.map((p) => [p.id, p]));

/** A tree as text. */
const shown = (nodes: readonly Node[]): string =>
  nodes.map((n) => n.spot.id + (n.children.length > 0 ? `(${shown(n.children)})` : '')).join(' ');

/** Numbers that look like luck and are the same each time. */
function luck(seed: number) {
  let state = seed;
  return (most: number) => {
    state = (state * 1_103_515_245 + 12_345) % 2_147_483_648;
    return Math.floor((state / 2_147_483_648) * most);
  };
}

describe('a tree that is changed', () => {
  const places = [spot('site', null, 0), spot('a', 'site', 1), spot('b', 'site', 2), spot('a1', 'a', 1), spot('a2', 'a', 2)];

  it('makes anew only what lies above the change', () => {
    const top = treeOf(places);
    const next = byId(places).set('a2', spot('a2', 'b', 0));
    const grown = regrown({ top, byId: byId(places) }, next, ['a2']) ?? [];
    expect(shown(grown)).toBe('site(a(a1) b(a2))');
    expect(shown(top)).toBe('site(a(a1 a2) b)');
    expect(grown[0]?.children[0]?.children[0]).toBe(top[0]?.children[0]?.children[0]);
  });

  it('takes a branch along, and takes away what is gone', () => {
    const next = byId(places).set('a', spot('a', null, 5));
    next.delete('b');
    expect(shown(regrown({ top: treeOf(places), byId: byId(places) }, next, ['a', 'b']) ?? [])).toBe('site a(a1 a2)');
  });

  it('is left to be grown anew where changes hang together', () => {
    const next = byId(places)
      .set('a', spot('a', 'b', 0))
      .set('b', spot('b', null, 0));
    expect(regrown({ top: treeOf(places), byId: byId(places) }, next, ['a', 'b'])).toBeUndefined();
    const ring = byId(places).set('site', spot('site', 'a', 0));
    expect(regrown({ top: treeOf(places), byId: byId(places) }, ring, ['site'])).toBeUndefined();
    const orphan = byId(places).set('a', spot('a', 'nowhere', 0));
    expect(regrown({ top: treeOf(places), byId: byId(places) }, orphan, ['a'])).toBeUndefined();
  });

  it.each(Array.from({ length: 40 }, (_, i) => i + 1))('is the same as one that is grown anew, whatever is done (%i)', (seed) => {
    const any = luck(seed);
    let now = byId(places);
    let top: readonly Node[] = treeOf(places);
    let shared = 0;
    for (let step = 0; step < 30; step += 1) {
      const next = new Map(now);
      const ids = [...now.keys()];
      const touched: string[] = [];
      for (let n = 0; n <= any(3); n += 1) {
        const id = any(3) === 0 ? `n${step}-${n}` : (ids[any(ids.length)] ?? 'site');
        touched.push(id);
        if (any(5) === 0) next.delete(id);
        else next.set(id, spot(id, any(6) === 0 ? null : (ids[any(ids.length)] ?? null), any(5)));
      }
      const grown = regrown({ top, byId: now }, next, touched);
      if (grown) shared += 1;
      const anew = treeOf(next.values());
      // Places in a ring hang on nothing and are not shown, whichever way.
      if (grown) expect(shown(grown)).toBe(shown(anew));
      top = grown ?? anew;
      now = next;
    }
    expect(shared).toBeGreaterThan(0);
  });
});
