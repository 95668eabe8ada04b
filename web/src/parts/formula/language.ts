// What an editor must know of what is typed in it, and the tags that it offers. It stands apart from the editor, which is a bundle of
// its own.

import type { Completion, CompletionContext, CompletionResult } from '@codemirror/autocomplete';
import { http, take } from '../../api/client';
import { queries } from '../../api/queries';
import { pathEnd } from '../text';
import { mentions, naming, owned, ownNaming, typedBefore } from './text';

/** What shows as a chip, and where in the text it stands. */
export interface Shown {
  from: number;
  to: number;
  shown: string;
  title: string;
  /** What it is called for whoever does not see it. */
  said: string;
}

/** What is typed: what of it shows as chips, and what is offered. */
export interface Language {
  chips: (text: string) => Shown[];
  offers: (under: string | undefined) => (context: CompletionContext) => Promise<CompletionResult | null>;
  placeholder: string;
  /** What is typed is a formula, which may take several lines. */
  isFormula: boolean;
}

/** Tags by words of their path; `apply` gives what is put in for a path. */
export async function tagsFor(
  words: string,
  under: string | undefined,
  apply: (path: string) => string = naming,
): Promise<Completion[]> {
  const query = { text: words, limit: 30, kind: 'tag', ...(words.trim() === '' && under ? { under } : {}) };
  const found = await take(http.GET('/api/find', { params: { query } }));
  return found.found.map((hit) => {
    const cut = hit.title.lastIndexOf('/');
    return {
      label: hit.title.slice(cut + 1),
      detail: hit.title.slice(0, Math.max(0, cut)).split('/').slice(-2).join(' / ') + (hit.tag?.unit ? ` · ${hit.tag.unit}` : ''),
      apply: apply(hit.title),
      type: 'tag',
    };
  });
}

const functions = () =>
  queries.fetchQuery({
    queryKey: ['formula functions'],
    queryFn: () => take(http.GET('/api/formulas/functions')),
    staleTime: Number.POSITIVE_INFINITY,
  });

/** Formulas; `own` names the properties that those of a class can name. Tags are offered by words of their path, functions by their
 * beginning. */
export function formulaLanguage(own: readonly string[] = [], placeholder?: string): Language {
  const offered = (typed: string) =>
    own
      .filter((name) => name.toLowerCase().includes(typed.trim().toLowerCase()))
      .slice(0, 30)
      .map((name): Completion => ({ label: pathEnd(name), detail: 'property', apply: ownNaming(name), type: 'property' }));
  return {
    isFormula: true,
    placeholder: placeholder ?? 'Type a number, a function or words of a tag’s path',
    chips: (text) => {
      const tags = mentions(text).map((mention) => ({ ...mention, kind: 'tag' }));
      const all = [...tags, ...owned(text).map((mention) => ({ ...mention, kind: 'property' }))];
      all.sort((a, b) => a.from - b.from);
      return all.map(({ path, from, to, kind }) => ({
        from,
        to,
        shown: pathEnd(path),
        title: path.replaceAll('/', ' / '),
        said: `${kind} ${path}`,
      }));
    },
    offers: (under) => async (context) => {
      const typed = typedBefore(context.state.doc.toString(), context.pos);
      if (!typed) {
        if (!context.explicit) return null;
        return { from: context.pos, options: [...offered(''), ...(await tagsFor('', under))], filter: false };
      }
      if (typed.kind === 'word' && typed.typed.length < 2 && !context.explicit) return null;
      const [tags, known] = await Promise.all([
        tagsFor(typed.typed, under),
        typed.kind === 'word' ? functions() : Promise.resolve([]),
      ]);
      const begun = typed.typed.toLowerCase();
      const named = known
        .filter((f) => f.name.toLowerCase().startsWith(begun))
        .map((f): Completion => ({ label: `${f.name}(${f.takes})`, detail: f.words, apply: `${f.name}(`, type: 'function' }));
      const options = [...offered(typed.typed), ...named, ...tags];
      // Words are found on the server, in any order; what was found fits.
      return options.length > 0 ? { from: typed.from, options, filter: false } : null;
    },
  };
}
