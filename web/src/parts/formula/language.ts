// What an editor must know of what is typed in it, and the tags that it offers. It stands apart from the editor, which is a bundle of
// its own.

import type { Completion, CompletionContext, CompletionResult } from '@codemirror/autocomplete';
import { http, take } from '../../api/client';
import { naming } from './text';

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
