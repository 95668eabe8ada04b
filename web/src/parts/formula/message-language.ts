// What the editor knows of messages: chips in double brackets, and what can stand in them.

import { pathEnd } from '../text';
import { type Language, tagsFor } from './language';
import { CHIPS, chipOf, chipShown, chipsIn, ownChip, typedInChip } from './message-text';

/** `place` is the path from which tags are named, `names` what else can be named; `words`: chips for the alarm itself. */
export function messageLanguage(place: string | undefined, names: readonly string[] | undefined, words: boolean): Language {
  return {
    isFormula: false,
    placeholder: words ? 'Words, and [[ for a chip' : '[[ for a tag',
    chips: (text) =>
      chipsIn(text).map(({ inside, from, to }) => ({
        from,
        to,
        shown: chipShown(inside),
        title: CHIPS[inside] ?? inside.replaceAll('/', ' / '),
        said: CHIPS[inside] ? `chip ${inside}` : `tag ${inside}`,
      })),
    offers: (under) => async (context) => {
      const typed = typedInChip(context.state.doc.toString(), context.pos) ?? { from: context.pos, typed: '' };
      if (typed.from === context.pos && !context.explicit) return null;
      const begun = typed.typed.trim().toLowerCase();
      const fits = (name: string) => name.toLowerCase().includes(begun);
      const known = words ? Object.entries(CHIPS).filter(([word]) => word.startsWith(begun)) : [];
      const own = (names ?? []).filter(fits).slice(0, 30);
      const tags = names ? [] : await tagsFor(typed.typed, under, (path) => chipOf(path, place));
      const options = [
        ...own.map((name) => ({ label: pathEnd(name), detail: 'property', apply: ownChip(name), type: 'tag' })),
        ...known.map(([word, says]) => ({ label: word, detail: says, apply: `[[${word}]]`, type: 'chip' })),
        ...tags,
      ];
      return options.length > 0 ? { from: typed.from, options, filter: false } : null;
    },
  };
}
