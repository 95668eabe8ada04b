// Trends and lookups kept under a name: a list from which one is opened or deleted, and the form that keeps another.

import { useQuery } from '@tanstack/react-query';
import { X } from 'lucide-react';
import { type ReactNode, useState } from 'react';
import { queries, useMay } from '../../api/queries';
import { complain, useForm } from '../../parts/form';
import { Button, Confirm, Field, FormTrouble, Input, Popup, Trouble } from '../../parts/ui';

/** What is kept. */
export interface KeptThing {
  id: string;
  name: string;
  actor: string;
  removable: boolean;
}

/** One kind of what is kept. */
export interface KeptKind<K extends KeptThing> {
  noun: string;
  plural: string;
  /** Its name among queries. */
  key: string;
  all: () => Promise<K[]>;
  remove: (id: string) => Promise<unknown>;
  /** In a few words. */
  describe: (kept: K) => string;
}

export function useKept<K extends KeptThing>({ key, all }: KeptKind<K>) {
  return useQuery({ queryKey: [key], queryFn: all, staleTime: 0 });
}

/** The list; choosing one opens it. */
export function KeptList<K extends KeptThing>({ kind, onOpen }: { kind: KeptKind<K>; onOpen: (kept: K) => void }) {
  const kept = useKept(kind);
  const [leaving, setLeaving] = useState<K | null>(null);
  async function forget(id: string) {
    setLeaving(null);
    try {
      await kind.remove(id);
      await queries.invalidateQueries({ queryKey: [kind.key] });
    } catch (error) {
      complain(error);
    }
  }
  return (
    <>
      <Trouble error={kept.error} />
      {kept.data?.length === 0 && <p className="text-soft">No saved {kind.plural}.</p>}
      <ul aria-label={`Saved ${kind.plural}`} className="max-h-80 overflow-auto">
        {kept.data?.map((one) => (
          <li key={one.id} className="flex items-center gap-2 border-t border-line hover:bg-band">
            <button
              type="button"
              className="flex min-w-0 flex-1 items-baseline gap-3 px-2 py-1 text-left"
              onClick={() => onOpen(one)}
            >
              <span className="min-w-0 flex-1 truncate font-semibold">{one.name}</span>
              <span className="shrink-0 text-sm text-soft">
                {kind.describe(one)} · {one.actor}
              </span>
            </button>
            {one.removable && (
              <button
                type="button"
                aria-label={`Delete ${one.name}`}
                className="mr-1 rounded p-0.5 hover:bg-raised"
                onClick={() => setLeaving(one)}
              >
                <X className="size-3.5" />
              </button>
            )}
          </li>
        ))}
      </ul>
      <Confirm
        open={leaving !== null}
        title={`Delete ${leaving?.name}?`}
        action="Delete"
        onClose={() => setLeaving(null)}
        onConfirm={() => leaving && void forget(leaving.id)}
      >
        <p>It is deleted for everybody. History and tags are not affected.</p>
      </Confirm>
    </>
  );
}

interface DialogProps<K extends KeptThing> {
  kind: KeptKind<K>;
  /** Keeps what is seen under a name; nothing where there is nothing to keep. */
  keep: ((name: string, replace: boolean) => Promise<unknown>) | undefined;
  /** What is kept, in a sentence. */
  note: ReactNode;
  onOpen: (kept: K) => void;
  onClose: () => void;
}

/** Keeps what is seen, and opens what was kept. */
export function KeptDialog<K extends KeptThing>({ kind, keep, note, onOpen, onClose }: DialogProps<K>) {
  const form = useForm({ name: '' });
  const may = useMay('operator');
  const kept = useKept(kind).data ?? [];
  const same = (one: K) => one.name.toLowerCase() === form.values.name.trim().toLowerCase();
  const replaceable = form.error('name') !== undefined && kept.some((one) => same(one) && one.removable);
  async function save(replace: boolean) {
    const done = await form.run(async ({ name }) => {
      await keep?.(name, replace);
      await queries.invalidateQueries({ queryKey: [kind.key] });
    });
    if (done) form.reset({ name: '' });
  }
  return (
    <Popup open title={`Saved ${kind.plural}`} onClose={onClose} className="top-24 w-[36rem] p-4">
      {may && keep && (
        <form
          className="mt-2 mb-3"
          onSubmit={(e) => {
            e.preventDefault();
            void save(false);
          }}
        >
          <div className="flex items-end gap-2">
            <div className="flex-1">
              <Field label={`Save this ${kind.noun} as`} error={form.error('name')}>
                {(p) => <Input {...p} value={form.values.name} onChange={(e) => form.set('name', e.target.value)} />}
              </Field>
            </div>
            {replaceable && (
              <Button disabled={form.busy} onClick={() => void save(true)}>
                Replace it
              </Button>
            )}
            <Button kind="main" type="submit" disabled={form.busy || form.values.name.trim() === ''}>
              Save
            </Button>
          </div>
          <p className="mt-1 text-sm text-soft">{note}</p>
          <FormTrouble form={form} />
        </form>
      )}
      <KeptList
        kind={kind}
        onOpen={(one) => {
          onOpen(one);
          onClose();
        }}
      />
    </Popup>
  );
}
