// Revisions of the configuration: what one changed, how two differ, taking one back, going back to one.

import { useQuery } from '@tanstack/react-query';
import { type FormEvent, useState } from 'react';
import { toast } from 'sonner';
import { http, type Schemas, take } from '../../api/client';
import { made, queries } from '../../api/queries';
import { complain } from '../../parts/form';
import { counted } from '../../parts/text';
import { Button, Confirm, Field, Input, Tick, Trouble } from '../../parts/ui';
import { differences } from './differences';

type Fields = Record<string, unknown> | null | undefined;

async function settled(revision: number, words: string) {
  toast.success(words);
  await made(revision);
  await queries.invalidateQueries({ queryKey: ['journal'] });
}

function ChangeList({ changes, total }: { changes: Schemas['ChangeView'][]; total: number }) {
  if (total === 0) return <p className="text-soft">No differences.</p>;
  return (
    <ul className="max-h-64 overflow-auto text-sm">
      {changes.map((change) => {
        const [before, after] = [change.before as Fields, change.after as Fields];
        const verb = !before ? 'made' : !after ? 'deleted' : 'changed';
        return (
          <li key={change.id} className="py-0.5">
            <span className="text-soft">
              {verb} {change.kind}
            </span>{' '}
            {change.title.replaceAll('/', ' / ')}
            {before && after && (
              <span className="figures ml-2 break-words whitespace-normal text-soft">
                {differences(before, after).join(', ')}
              </span>
            )}
          </li>
        );
      })}
      {total > changes.length && <li className="text-soft">and {(total - changes.length).toLocaleString('en')} more</li>}
    </ul>
  );
}

/** What one revision changed. */
export function Changes({ revision, headed = false }: { revision: number; headed?: boolean }) {
  const found = useQuery({
    queryKey: ['revisions', revision],
    queryFn: () => take(http.GET('/api/revisions', { params: { query: { before: revision + 1, limit: 1 } } })),
  });
  const view = found.data?.[0];
  if (!view) return null;
  return (
    <>
      {headed && (
        <p className="text-soft">
          “{view.why}”, by {view.actor}
        </p>
      )}
      <ChangeList changes={view.changes} total={view.total} />
    </>
  );
}

/** Asks before a revision is taken back; what later ones touched is listed to choose. */
export function UndoDialog({ revision, onClose }: { revision: number; onClose: () => void }) {
  const [chosen, setChosen] = useState<Record<string, { id: string; field: string }>>({});
  const body = { revision, put_back: Object.values(chosen) };
  const plan = useQuery({
    queryKey: ['revisions', 'undo', body],
    placeholderData: (old) => old,
    queryFn: () => take(http.POST('/api/undo/plan', { body })),
  });
  async function undo() {
    onClose();
    try {
      const done = await take(http.POST('/api/undo', { body }));
      await settled(done.revision, `Revision ${revision} is undone.`);
    } catch (error) {
      complain(error);
    }
  }
  const conflicts = plan.data?.conflicts ?? [];
  return (
    <Confirm
      open
      title={`Undo revision ${revision}?`}
      action="Undo"
      grave={false}
      disabled={!plan.data || plan.data.items === 0}
      onClose={onClose}
      onConfirm={() => void undo()}
    >
      <Trouble error={plan.error} />
      {plan.data && (
        <p>
          {plan.data.items === 0
            ? 'Nothing is left to undo.'
            : `${counted(plan.data.items, 'item')} are restored. The undo is a revision of its own.`}
        </p>
      )}
      {conflicts.length > 0 && (
        <fieldset className="rounded border border-line px-3 py-2">
          <legend className="px-1 font-semibold">Changed since. Restore anyway?</legend>
          <ul className="max-h-56 space-y-1.5 overflow-auto">
            {conflicts.map((c) => {
              const key = `${c.id}/${c.field}`;
              const set = (on: boolean) => {
                const { [key]: _, ...rest } = chosen;
                setChosen(on ? { ...rest, [key]: { id: c.id, field: c.field } } : rest);
              };
              const name = `${c.title.replaceAll('/', ' / ')}${c.field ? `, ${c.field}` : ''}`;
              return (
                <li key={key}>
                  {c.can ? <Tick label={name} checked={key in chosen} onChange={set} /> : <span>{name}</span>}
                  <p className="ml-6 text-sm break-words text-soft">{conflictWords(c)}</p>
                </li>
              );
            })}
          </ul>
        </fieldset>
      )}
      <Changes revision={revision} headed />
    </Confirm>
  );
}

function conflictWords(c: Schemas['ConflictView']): string {
  if (!c.can) return 'deleted since; this undo cannot restore it';
  if (c.field === '') return 'created by this revision and changed since; ticked: deleted';
  if (typeof c.now === 'object' && c.now !== null && typeof c.back === 'object' && c.back !== null) {
    return `ticked, this changes: ${differences(c.now, c.back).join(', ')}`;
  }
  return `now ${JSON.stringify(c.now)}; ticked, it becomes ${JSON.stringify(c.back)}`;
}

function useCompared(from: number, to: number, enabled = true) {
  return useQuery({
    queryKey: ['revisions', 'compare', from, to],
    enabled: enabled && from >= 0 && from < to,
    queryFn: () => take(http.GET('/api/revisions/compare', { params: { query: { from, to } } })),
  });
}

/** Asks before everything becomes as it was at a revision, and shows what that means. */
export function ReturnDialog({ revision, newest, onClose }: { revision: number; newest: number; onClose: () => void }) {
  const compared = useCompared(revision, newest);
  async function goBack() {
    onClose();
    try {
      const params = { header: { 'If-Match': String(newest) } };
      const done = await take(http.POST('/api/revisions/return', { params, body: { revision } }));
      await settled(done.revision, `Everything is as it was at revision ${revision}.`);
    } catch (error) {
      complain(error);
    }
  }
  return (
    <Confirm
      open
      title={`Go back to revision ${revision}?`}
      action="Go back"
      grave={false}
      disabled={!compared.data || compared.data.total === 0}
      onClose={onClose}
      onConfirm={() => void goBack()}
    >
      <p>
        The changes of revisions {revision + 1} to {newest} are undone, as a new revision. History, alarms and journal are not
        affected.
      </p>
      <Trouble error={compared.error} />
      {compared.data && <ChangeList changes={compared.data.changes} total={compared.data.total} />}
    </Confirm>
  );
}

/** Two revisions side by side: what differs, whatever lies between them. */
export function Compare({ newest, onClose }: { newest: number; onClose: () => void }) {
  const [asked, setAsked] = useState({ from: Math.max(0, newest - 1), to: newest });
  const [typed, setTyped] = useState({ from: String(asked.from), to: String(asked.to) });
  const compared = useCompared(asked.from, asked.to);
  const wrong = (text: string) => (/^\d+$/.test(text) && Number(text) <= newest ? undefined : `0 to ${newest}`);
  const order = Number(typed.from) < Number(typed.to) ? undefined : 'must be later';
  const errors = { from: wrong(typed.from), to: wrong(typed.to) ?? order };
  function compare(event: FormEvent) {
    event.preventDefault();
    if (!errors.from && !errors.to) setAsked({ from: Number(typed.from), to: Number(typed.to) });
  }
  return (
    <section aria-label="Compare revisions" className="mb-3 rounded-md border border-line bg-raised px-3 py-2.5">
      <form onSubmit={compare} className="flex items-start gap-3">
        <Field label="From revision" error={errors.from} className="w-28">
          {(p) => (
            <Input {...p} className="figures" value={typed.from} onChange={(e) => setTyped({ ...typed, from: e.target.value })} />
          )}
        </Field>
        <Field label="to revision" error={errors.to} className="w-28">
          {(p) => (
            <Input {...p} className="figures" value={typed.to} onChange={(e) => setTyped({ ...typed, to: e.target.value })} />
          )}
        </Field>
        <Button type="submit" className="mt-[1.125rem]" disabled={Boolean(errors.from ?? errors.to)}>
          Compare
        </Button>
        <Button kind="quiet" className="mt-[1.125rem] ml-auto" onClick={onClose}>
          Close
        </Button>
      </form>
      <Trouble error={compared.error} />
      {compared.data && (
        <div className="mt-2 border-t border-line pt-2">
          <p className="text-soft">
            {counted(compared.data.total, 'item')} {compared.data.total === 1 ? 'differs' : 'differ'} between revision{' '}
            {asked.from}
            {asked.from === 0 ? ' (the empty plant)' : ''} and {asked.to}.
          </p>
          <ChangeList changes={compared.data.changes} total={compared.data.total} />
        </div>
      )}
    </section>
  );
}
