// Notes on tags: each stands at an instant of a tag. Trends show them, and the page of an alarm those of its tag.

import { http, type Schemas, take } from './client';
import { queries } from './queries';

export type Note = Schemas['NoteView'];

/** Notes on tags in a period, oldest first. */
export const findNotes = (tags: string[], from: number, to: number): Promise<Note[]> =>
  take(http.POST('/api/notes/find', { body: { tags, from: new Date(from).toISOString(), to: new Date(to).toISOString() } }));

const refresh = () => queries.invalidateQueries({ queryKey: ['notes'] });

export async function writeNote(tag: string, at: number, text: string): Promise<void> {
  await take(http.POST('/api/notes', { body: { tag, at: new Date(at).toISOString(), text } }));
  await refresh();
}

export async function removeNote(id: string): Promise<void> {
  await take(http.DELETE('/api/notes/{id}', { params: { path: { id } } }));
  await refresh();
}
