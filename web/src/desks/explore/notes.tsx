// Notes on a trend: each stands at an instant of a tag, as a numbered flag on the plot and a line below it.

import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { X } from 'lucide-react';
import { useId } from 'react';
import { Refused } from '../../api/client';
import { findNotes, type Note, removeNote, writeNote } from '../../api/notes';
import { tagIn } from '../../parts/figure';
import { complain, useForm } from '../../parts/form';
import { moment } from '../../parts/text';
import type { TrendTag, TrendWindow } from '../../parts/trend';
import { Button, Choice, Field, FormTrouble, Hint, INPUT, Input, Popup } from '../../parts/ui';

/** Notes within what is seen; live, asked for anew every half minute. */
export function useNotes(tags: readonly TrendTag[], window: TrendWindow | undefined, live: boolean): Note[] {
  const ids = [...new Set(tags.map((t) => tagIn(t.id)))];
  const round = live ? 30_000 : 1;
  const from = Math.floor((window?.from ?? 0) / round) * round;
  const to = (Math.floor((window?.to ?? 0) / round) + 1) * round;
  const found = useQuery({
    queryKey: ['notes', ids, from, to],
    enabled: ids.length > 0 && window !== undefined,
    gcTime: 30_000,
    placeholderData: keepPreviousData,
    queryFn: () => findNotes(ids, from, to),
  });
  return (found.data ?? []).filter((note) => ids.includes(note.tag));
}

/** The flags on the plot. */
export function NoteFlags({ notes, window }: { notes: readonly Note[]; window: TrendWindow }) {
  const { from, to, left, width, height } = window;
  return notes.map((note, i) => {
    const share = (Date.parse(note.at) - from) / (to - from);
    if (!(share >= 0 && share <= 1)) return null;
    return (
      <Hint key={note.id} text={`${moment(note.at)} ${note.text}`}>
        <button
          type="button"
          aria-label={`Note ${i + 1}: ${note.text}`}
          className="absolute z-10 flex w-4 flex-col items-center"
          style={{ left: left + share * width - 8, top: height - 18 }}
          onClick={() => document.getElementById(`note-${note.id}`)?.focus()}
        >
          <span aria-hidden className="w-4 rounded-sm border border-teal bg-raised text-center text-xs leading-4 font-semibold">
            {i + 1}
          </span>
        </button>
      </Hint>
    );
  });
}

/** The notes in words. */
export function NoteList({
  notes,
  tags,
  names,
}: {
  notes: readonly Note[];
  tags: readonly TrendTag[];
  names: readonly string[];
}) {
  if (notes.length === 0) return null;
  return (
    <ol aria-label="Notes" className="mt-2 border-t border-line">
      {notes.map((note, i) => (
        <li
          key={note.id}
          id={`note-${note.id}`}
          tabIndex={-1}
          className="flex items-baseline gap-3 border-b border-line py-0.5 focus:bg-band"
        >
          <span className="figures w-6 text-right font-semibold">{i + 1}</span>
          <span className="figures shrink-0">{moment(note.at)}</span>
          <span className="shrink-0 text-soft">{names[tags.findIndex((t) => tagIn(t.id) === note.tag)]}</span>
          <span className="min-w-0 flex-1 break-words whitespace-pre-wrap">{note.text}</span>
          <span className="shrink-0 text-sm text-soft">{note.actor}</span>
          {note.removable && (
            <button
              type="button"
              aria-label={`Delete note ${i + 1}`}
              className="rounded p-0.5 hover:bg-band"
              onClick={() => void removeNote(note.id).catch(complain)}
            >
              <X className="size-3.5" />
            </button>
          )}
        </li>
      ))}
    </ol>
  );
}

/** Reads a local time as it is printed: with its day, or only the hour of today. */
export function readMoment(text: string, now = Date.now()): number | null {
  const match = /^(?:(\d{4})-(\d{1,2})-(\d{1,2})[ T]+)?(\d{1,2}):(\d{2})(?::(\d{2}))?$/.exec(text.trim());
  if (!match) return null;
  const today = new Date(now);
  const part = (i: number, usual: number) => (match[i] === undefined ? usual : Number(match[i]));
  const [year, month, day] = [part(1, today.getFullYear()), part(2, today.getMonth() + 1), part(3, today.getDate())];
  const [hour, minute, second] = [part(4, 0), part(5, 0), part(6, 0)];
  const read = new Date(year, month - 1, day, hour, minute, second);
  const kept = read.getMonth() === month - 1 && read.getDate() === day && hour < 24 && minute < 60 && second < 60;
  return kept ? read.getTime() : null;
}

/** Asks for a note; opened with the instant it most likely belongs to. */
export function NoteDialog({
  tags,
  names,
  at,
  onClose,
}: {
  tags: readonly TrendTag[];
  names: readonly string[];
  at: number;
  onClose: () => void;
}) {
  const form = useForm({ tag: tags[0]?.id ?? '', at: moment(at, 0), text: '' }, undefined, { draft: 'note' });
  const label = useId();
  const v = form.values;
  async function write() {
    const done = await form.run(async (values) => {
      const time = readMoment(values.at);
      if (time === null) {
        const message = 'Write a time as 2026-11-23 14:05:00, or 14:05 for today.';
        throw new Refused(422, message, [{ edit: 0, field: 'at', message }]);
      }
      await writeNote(values.tag, time, values.text);
    });
    if (done) onClose();
  }
  return (
    <Popup open title="Note" onClose={onClose} className="top-24 w-[30rem] p-4">
      <form
        aria-labelledby={label}
        className="mt-2 space-y-2"
        onSubmit={(e) => {
          e.preventDefault();
          void write();
        }}
      >
        <Field label="On" error={form.error('tag')}>
          {(p) => (
            <Choice {...p} value={v.tag} onChange={(e) => form.set('tag', e.target.value)}>
              {tags.map((tag, i) => (
                <option key={tag.id} value={tag.id}>
                  {names[i]}
                </option>
              ))}
            </Choice>
          )}
        </Field>
        <Field label="Time" error={form.error('at')}>
          {(p) => <Input {...p} className="figures" value={v.at} onChange={(e) => form.set('at', e.target.value)} />}
        </Field>
        <Field label="Text" error={form.error('text')}>
          {(p) => (
            <textarea
              {...p}
              rows={3}
              className={`${INPUT} h-auto py-1`}
              value={v.text}
              onChange={(e) => form.set('text', e.target.value)}
            />
          )}
        </Field>
        <FormTrouble form={form} />
        <div className="flex justify-end gap-2">
          <Button
            onClick={() => {
              form.discard();
              onClose();
            }}
          >
            Cancel
          </Button>
          <Button kind="main" type="submit" disabled={form.busy || v.text.trim() === ''}>
            Add note
          </Button>
        </div>
      </form>
    </Popup>
  );
}
