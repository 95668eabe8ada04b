// What was typed and not saved yet: kept by name over other desks, other places and a reload, for this tab only.

import { type Dispatch, type SetStateAction, useEffect, useRef, useState } from 'react';

const PREFIX = 'havrel.draft.';
/** A draft longer than this is kept while the page lives; leaving the page then asks first. */
const LONGEST = 1_500_000;

const drafts = new Map<string, unknown>();
/** Drafts that a reload would lose: too long to be stored, or not to be stored. */
const fleeting = new Set<string>();
let timer: ReturnType<typeof setTimeout> | undefined;
const waiting = new Set<string>();

function load() {
  for (let i = 0; i < sessionStorage.length; i += 1) {
    const name = sessionStorage.key(i);
    if (!name?.startsWith(PREFIX)) continue;
    try {
      drafts.set(name.slice(PREFIX.length), JSON.parse(sessionStorage.getItem(name) ?? 'null'));
    } catch {
      // A draft that cannot be read was not written by this program.
    }
  }
}

function store(name: string) {
  fleeting.delete(name);
  const draft = drafts.get(name);
  if (draft === undefined) {
    sessionStorage.removeItem(PREFIX + name);
    return;
  }
  try {
    const text = JSON.stringify(draft);
    if (text.length > LONGEST) throw new Error('too long');
    sessionStorage.setItem(PREFIX + name, text);
  } catch {
    sessionStorage.removeItem(PREFIX + name);
    fleeting.add(name);
  }
}

function storeAll() {
  clearTimeout(timer);
  timer = undefined;
  for (const name of waiting) store(name);
  waiting.clear();
}

load();
addEventListener('pagehide', storeAll);
addEventListener('beforeunload', (event) => {
  storeAll();
  // The browser asks in its own words.
  if (fleeting.size > 0) event.preventDefault();
});

/** A draft by its name; `undefined` where there is none. */
export const draftOf = (name: string): unknown => drafts.get(name);

/** Keeps a draft; `undefined` drops it. */
export function keepDraft(name: string, draft: unknown) {
  if (draft === undefined && !drafts.has(name)) return;
  if (draft === undefined) drafts.delete(name);
  else drafts.set(name, draft);
  waiting.add(name);
  timer ??= setTimeout(storeAll, 300);
}

/** Forgets the drafts of whoever was signed in here before, if that was somebody else. */
export function dropDrafts(owner: string) {
  const name = 'havrel.owner';
  if (sessionStorage.getItem(name) !== owner) {
    for (const draft of drafts.keys()) waiting.add(draft);
    drafts.clear();
    storeAll();
  }
  sessionStorage.setItem(name, owner);
}

/** How a state that JSON does not know is written down. */
interface Codec<T> {
  write: (state: T) => unknown;
  read: (draft: unknown) => T;
}

/** State that is kept as a draft under a name, for as long as it is not `initial`. */
export function useDraft<T>(name: string, initial: T, codec?: Codec<T>): [T, Dispatch<SetStateAction<T>>] {
  const [state, setState] = useState<T>(() => {
    const draft = draftOf(name);
    if (draft === undefined) return initial;
    return codec ? codec.read(draft) : (draft as T);
  });
  const first = useRef(initial);
  // biome-ignore lint/correctness/useExhaustiveDependencies: a codec never changes
  useEffect(() => {
    const draft = codec ? codec.write(state) : state;
    keepDraft(name, state === first.current ? undefined : draft);
  }, [name, state]);
  return [state, setState];
}
