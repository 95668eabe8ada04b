// A formula as text: where it names tags, and how such a name is written.

import { pathEnd } from '../text';

/** A tag that a text names: its path, and the characters of all of `at("…")`. */
export interface Mention {
  path: string;
  from: number;
  to: number;
}

const NAMED = /\bat\(\s*"((?:[^"\\]|\\.)*)"\s*\)/g;
const OWNED = /\bown\(\s*"((?:[^"\\]|\\.)*)"\s*\)/g;

/** Every tag that a text names, in order. */
export const mentions = (text: string): Mention[] => found(text, NAMED);

/** Every property of its own equipment that the formula of a class names, in order. */
export const owned = (text: string): Mention[] => found(text, OWNED);

function found(text: string, what: RegExp): Mention[] {
  return [...text.matchAll(what)].map((one) => ({
    path: (one[1] ?? '').replace(/\\(.)/g, '$1'),
    from: one.index,
    to: one.index + one[0].length,
  }));
}

/** How a formula names a tag. */
export const naming = (path: string) => `at("${path.replace(/[\\"]/g, '\\$&')}")`;

/** How the formula of a class names a property. */
export const ownNaming = (name: string) => `own("${name.replace(/[\\"]/g, '\\$&')}")`;

/** What stands before the cursor and is being typed: the path of a tag that is not closed yet, or words. */
export function typedBefore(text: string, at: number): { kind: 'path' | 'word'; from: number; typed: string } | undefined {
  const before = text.slice(0, at);
  const open = /\b(?:at|own)\(\s*"((?:[^"\\\n]|\\.)*)$/.exec(before);
  if (open) return { kind: 'path', from: open.index, typed: open[1] ?? '' };
  const quotes = before.replace(/\\./g, '').split('"').length - 1;
  if (quotes % 2 === 1) return undefined;
  const words = /[\p{L}_][\p{L}\p{N}_-]*(?: [\p{L}\p{N}_-]+)*$/u.exec(before);
  if (!words) return undefined;
  // “in” is an operator.
  const operator = /^in /.exec(words[0])?.[0].length ?? 0;
  return { kind: 'word', from: words.index + operator, typed: words[0].slice(operator) };
}

/** A formula cut into what is text and what are tags, for showing it. */
export function pieces(text: string): (string | Mention)[] {
  const all: (string | Mention)[] = [];
  let done = 0;
  for (const mention of mentions(text)) {
    if (mention.from > done) all.push(text.slice(done, mention.from));
    all.push(mention);
    done = mention.to;
  }
  if (done < text.length) all.push(text.slice(done));
  return all;
}

/** What stands at a place of which something is told, so that it is found among chips: the tag, or what is written there. */
export function placeWords(text: string, from: number, to: number): string {
  const units = (characters: number) => [...text].slice(0, characters).join('').length;
  const [begin, end] = [units(from), units(to)];
  const named = mentions(text).find((m) => m.from <= begin && begin < m.to);
  if (named) return pathEnd(named.path);
  const written = text.slice(begin, Math.max(end, begin + 1)).trim();
  return written.length > 24 ? `${written.slice(0, 24)}…` : written;
}

/** Bytes in words: “29 kB”. */
export function bytesWords(bytes: number): string {
  return bytes < 1000 ? `${bytes} bytes` : bytes < 1e6 ? `${Math.round(bytes / 1000)} kB` : `${(bytes / 1e6).toFixed(1)} MB`;
}
