// Checks how the Rust part of the house hangs together: which crate may use which, and that no files use each other in a
// circle. A path through a parent module's own names does not count: there the parent hands on what stands in its children.

import { readdirSync, readFileSync, statSync } from 'node:fs';
import { join, relative } from 'node:path';

/** What each crate may use of the others. */
const MAY = {
  child: [],
  core: [],
  sparkplug: ['core'],
  link: ['child', 'core', 'sparkplug'],
  db: ['child', 'core'],
  press: ['core'],
  standin: ['core', 'sparkplug'],
  jobs: ['core', 'db'],
  live: ['core', 'link', 'db', 'jobs'],
  server: ['core', 'link', 'db', 'live', 'jobs'],
  bench: ['core', 'sparkplug', 'link', 'db', 'live', 'jobs', 'server', 'standin'],
};

const faults = [];
const crates = readdirSync('crates').filter((name) => statSync(join('crates', name)).isDirectory());

for (const crate of crates) {
  const [ordinary] = readFileSync(join('crates', crate, 'Cargo.toml'), 'utf8').split('[dev-dependencies]');
  for (const [, used] of ordinary.matchAll(/^havrel-(\w+)\b/gm)) {
    if (!MAY[crate]?.includes(used)) faults.push(`crates/${crate} must not use crates/${used}`);
  }
}

/** Every Rust file under a folder but those of tests. */
function filesOf(folder) {
  return readdirSync(folder, { withFileTypes: true }).flatMap((entry) => {
    const path = join(folder, entry.name);
    if (entry.isDirectory()) return filesOf(path);
    return path.endsWith('.rs') && entry.name !== 'tests.rs' ? [path] : [];
  });
}

/** The module that a file is, as a list of names; the root has none. */
function moduleOf(source, file) {
  const names = relative(source, file).replace(/\.rs$/, '').split('/');
  const last = names.at(-1);
  return last === 'mod' || last === 'lib' || last === 'main' ? names.slice(0, -1) : names;
}

/** All paths of one use tree: `a::{b, c::d}` gives `a::b` and `a::c::d`. */
function expand(tree) {
  const open = tree.indexOf('{');
  if (open < 0) return [tree.trim()];
  const parts = [];
  let depth = 0;
  let from = open + 1;
  for (let at = open; at < tree.length; at++) {
    if (tree[at] === '{') depth++;
    if (tree[at] === '}') depth--;
    if ((tree[at] === ',' && depth === 1) || depth === 0) {
      parts.push(tree.slice(from, at));
      from = at + 1;
    }
    if (depth === 0) break;
  }
  return parts.flatMap(expand).map((part) => tree.slice(0, open).trim() + part);
}

for (const crate of crates) {
  const source = join('crates', crate, 'src');
  const files = filesOf(source);
  const byModule = new Map(files.map((file) => [moduleOf(source, file).join('::'), file]));
  const uses = new Map();
  for (const file of files) {
    const own = moduleOf(source, file);
    const text = readFileSync(file, 'utf8').split('#[cfg(test)]')[0].replace(/\/\/.*$/gm, '');
    const paths = [...text.matchAll(/\buse\s+((?:crate|super|self)[^;]*);/g)].flatMap(([, tree]) => expand(tree));
    paths.push(...[...text.matchAll(/\b(?:crate|super)(?:::\w+)+/g)].map(([path]) => path));
    const targets = new Set();
    for (const path of paths) {
      const names = path.split('::').map((name) => name.trim());
      let base = [];
      if (names[0] === 'super') base = [...own];
      if (names[0] === 'self') base = own;
      while (names[0] === 'super') {
        base = base.slice(0, -1);
        names.shift();
      }
      if (names[0] === 'crate' || names[0] === 'self') names.shift();
      const full = [...base, ...names];
      for (let length = full.length; length > 0; length--) {
        const found = byModule.get(full.slice(0, length).join('::'));
        const parent = own.length > length && own.slice(0, length).join('::') === full.slice(0, length).join('::');
        if (found && found !== file && !parent) targets.add(found);
        if (found) break;
      }
    }
    uses.set(file, targets);
  }
  // A module that a file declares is part of it; a child may use what its parents hold, but not the other way about.
  const state = new Map();
  const trail = [];
  const visit = (file) => {
    state.set(file, 'open');
    trail.push(file);
    for (const next of uses.get(file)) {
      if (state.get(next) === 'open') {
        faults.push(`files use each other in a circle: ${[...trail.slice(trail.indexOf(next)), next].join(' -> ')}`);
      } else if (!state.has(next)) visit(next);
    }
    trail.pop();
    state.set(file, 'done');
  };
  for (const file of files) if (!state.has(file)) visit(file);
}

for (const fault of faults) console.error(fault);
process.exit(faults.length > 0 ? 1 : 0);
