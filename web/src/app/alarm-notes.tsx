// What people noted on the tag of an alarm, the newest first, and a new note.

import { useQuery } from '@tanstack/react-query';
import { X } from 'lucide-react';
import { useNow } from '../api/live';
import { findNotes, removeNote, writeNote } from '../api/notes';
import { useMay } from '../api/queries';
import { usePast } from '../api/shown';
import { complain, useForm } from '../parts/form';
import { moment } from '../parts/text';
import { Button, Choice, Field, FormTrouble, INPUT } from '../parts/ui';

/** How far back notes are looked for, in milliseconds. */
const YEAR = 366 * 86_400_000;
/** So many are listed. */
const SHOWN = 20;

interface Props {
  tag: string;
  /** When the alarm came, while it stands. */
  raised: number | undefined;
}

export function AlarmNotes({ tag, raised }: Props) {
  const now = useNow();
  const isPast = usePast();
  const operator = useMay('operator');
  const form = useForm({ text: '', of: 'came' as 'came' | 'now' }, ['text', 'at'], { draft: `note on ${tag}` });
  const found = useQuery({
    queryKey: ['notes', 'of', tag],
    queryFn: () => findNotes([tag], Date.now() - YEAR, Date.now() + YEAR),
    enabled: !isPast,
    refetchInterval: 30_000,
  });
  if (isPast || !found.data) return null;
  const notes = found.data.toReversed();
  const v = form.values;
  const at = raised !== undefined && v.of === 'came' ? raised : undefined;
  async function write() {
    const done = await form.run((values) => writeNote(tag, at ?? Date.now(), values.text));
    if (done) form.discard();
  }
  return (
    <section aria-label="Notes" className="border-t border-line pt-3">
      <h3 className="mb-2 font-semibold">Notes on its tag</h3>
      {notes.length === 0 && <p className="text-soft">None in the last year.</p>}
      <ol className="space-y-1">
        {notes.slice(0, SHOWN).map((note) => (
          <li key={note.id} className="grid grid-cols-[5.25rem_1fr_auto] items-start gap-x-2">
            <span className="figures text-sm whitespace-normal text-soft">{moment(note.at, now)}</span>
            <span className="min-w-0 break-words whitespace-pre-wrap">
              {note.text} <span className="text-sm text-soft">{note.actor}</span>
            </span>
            {note.removable && (
              <button
                type="button"
                aria-label={`Delete the note “${note.text}”`}
                className="rounded p-0.5 hover:bg-band"
                onClick={() => void removeNote(note.id).catch(complain)}
              >
                <X className="size-3.5" />
              </button>
            )}
          </li>
        ))}
      </ol>
      {notes.length > SHOWN && <p className="text-sm text-soft">Older ones stand on the trend of the tag.</p>}
      {operator && (
        <form
          className="mt-2 space-y-1"
          onSubmit={(e) => {
            e.preventDefault();
            void write();
          }}
        >
          <Field label="New note" error={form.error('text', 'at')}>
            {(p) => (
              <textarea
                {...p}
                rows={2}
                className={`${INPUT} h-auto py-1`}
                value={v.text}
                onChange={(e) => form.set('text', e.target.value)}
              />
            )}
          </Field>
          <FormTrouble form={form} />
          <div className="flex items-center gap-2">
            {raised !== undefined && (
              <Choice
                aria-label="When the note stands"
                className="w-36"
                value={v.of}
                onChange={(e) => form.set('of', e.target.value as 'came' | 'now')}
              >
                <option value="came">when it came</option>
                <option value="now">now</option>
              </Choice>
            )}
            <Button type="submit" disabled={form.busy || v.text.trim() === ''}>
              Add note
            </Button>
          </div>
        </form>
      )}
    </section>
  );
}
