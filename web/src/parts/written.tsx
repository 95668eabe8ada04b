// What is written in a sheet and not saved yet: it is tried on the server while one goes on, and saved as one revision.

import { Undo2 } from 'lucide-react';
import { type RefObject, useEffect, useMemo, useRef, useState } from 'react';
import { toast } from 'sonner';
import { http, Refused, take } from '../api/client';
import { useRevision } from '../api/live';
import { made } from '../api/queries';
import { useDraft } from './draft';
import { complain } from './form';
import { type CellTrouble, cellName, type GridHandle } from './grid';
import { cellCount, insisted, NOTHING, STAGED, type Staged, staged, type Write, without } from './staged';
import { counted } from './text';
import { Button } from './ui';

/** What the server says of one cell. */
interface Told {
  id: string;
  key: string;
  label: string;
  message: string;
  now: string | undefined;
}

export interface Written {
  changes: Staged;
  /** What is wrong, by cell. */
  troubles: ReadonlyMap<string, CellTrouble>;
  told: readonly Told[];
  busy: boolean;
  /** There is a step that can be taken back. */
  undoable: boolean;
  noun: string;
  write: (writes: Write[]) => void;
  undo: () => void;
  change: (next: Staged) => void;
  discard: () => void;
  save: () => Promise<void>;
}

/** Cells of a table that are written; `draft` names where they are kept, and `noun` what a row is. */
export function useWritten(kind: 'tag' | 'rule', draft: string, noun: string): Written {
  const revision = useRevision();
  const [history, setHistory] = useState<Staged[]>([]);
  const [changes, setChanges] = useDraft<Staged>(draft, NOTHING, STAGED);
  const [told, setTold] = useState<Told[]>([]);
  const [busy, setBusy] = useState(false);

  function write(writes: Write[]) {
    if (writes.length === 0) return;
    setHistory((old) => [...old.slice(-49), changes]);
    setChanges((old) => staged(old, writes));
  }
  function undo() {
    const last = history.at(-1);
    if (last === undefined) return;
    setChanges(last);
    setHistory((old) => old.slice(0, -1));
  }
  function discard() {
    setHistory((old) => [...old, changes]);
    setChanges(NOTHING);
  }

  // What is typed is tried while one goes on, and again when somebody else has changed something.
  const tried = useRef(0);
  // biome-ignore lint/correctness/useExhaustiveDependencies: a new revision may make wrong what was right
  useEffect(() => {
    tried.current += 1;
    const mine = tried.current;
    if (changes.size === 0) {
      setTold([]);
      return;
    }
    const timer = setTimeout(() => {
      send(kind, noun, changes, true)
        .then(() => mine === tried.current && setTold([]))
        .catch((error) => mine === tried.current && setTold(toldBy(error, changes)));
    }, 350);
    return () => clearTimeout(timer);
  }, [changes, revision]);

  async function save() {
    if (changes.size === 0 || busy) return;
    setBusy(true);
    try {
      const done = await send(kind, noun, changes, false);
      setChanges(NOTHING);
      setHistory([]);
      await made(done.revision);
      if (done.changed > 0)
        toast.success(`Saved ${counted(done.changed, noun)}.`, {
          action: { label: 'Undo', onClick: () => takeBack(done.revision) },
        });
    } catch (error) {
      if (error instanceof Refused && error.problems.length > 0) setTold(toldBy(error, changes));
      else complain(error);
    } finally {
      setBusy(false);
    }
  }

  const troubles = useMemo(() => {
    const map = new Map<string, CellTrouble>();
    for (const t of told) map.set(cellName(t.id, t.key || 'name'), { message: t.message, now: t.now });
    return map;
  }, [told]);
  return { changes, troubles, told, busy, undoable: history.length > 0, noun, write, undo, change: setChanges, discard, save };
}

interface UnsavedProps {
  written: Written;
  /** The title of a column. */
  title: (key: string) => string;
  grid: RefObject<GridHandle | null>;
}

/** Says what is not saved yet and what is wrong with it, with what can be done. */
export function Unsaved({ written, title, grid }: UnsavedProps) {
  const { changes, told } = written;
  if (changes.size === 0) return null;
  const fresh = [...changes.values()].filter((r) => r.fresh).length;
  return (
    <div className="mb-2 rounded border border-teal bg-raised px-2.5 py-1.5" role="region" aria-label="Not saved yet">
      <div className="flex items-center gap-2">
        <p className="flex-1" aria-live="polite">
          <b>{counted(cellCount(changes), 'cell')}</b> in {counted(changes.size, 'row')}
          {fresh > 0 && `, ${fresh} new`}, not saved yet.{' '}
          {told.length > 0 && <span className="text-act4">{counted(told.length, 'error')}.</span>}
        </p>
        <Button onClick={written.undo} disabled={!written.undoable}>
          <Undo2 className="size-4" /> Undo
        </Button>
        <Button onClick={written.discard}>Discard all</Button>
        <Button kind="main" disabled={written.busy || told.length > 0} onClick={() => void written.save()}>
          Save {counted(changes.size, 'row')}
        </Button>
      </div>
      {told.length > 0 && (
        <ul className="mt-1 max-h-24 overflow-auto text-sm">
          {grouped(told)
            .slice(0, 100)
            .map(({ one: t, more }) => (
              <li key={`${t.id} ${t.key}`} className="flex flex-wrap items-baseline gap-x-2">
                <span>
                  {t.key && <b>{title(t.key)}</b>} {t.key && 'of'} {t.label.replaceAll('/', ' / ')}
                  {more > 0 && ` and ${more} more`}: <span className="text-act4">{t.message}</span>
                  {t.now !== undefined && (
                    <>
                      {' '}
                      Theirs is <b>{t.now || 'empty'}</b>, yours <b>{changes.get(t.id)?.cells[t.key]?.text || 'empty'}</b>.
                    </>
                  )}
                </span>
                {t.now === undefined ? (
                  <Link onClick={() => grid.current?.reach(t.id, t.key || 'name')}>Go there</Link>
                ) : (
                  <>
                    <Link onClick={() => written.change(insisted(changes, t.id, t.key, t.now ?? ''))}>Keep yours</Link>
                    <Link onClick={() => written.change(without(changes, t.id, t.key))}>Use theirs</Link>
                  </>
                )}
                <Link onClick={() => written.change(without(changes, t.id))}>Discard this row</Link>
              </li>
            ))}
        </ul>
      )}
    </div>
  );
}

function Link({ onClick, children }: { onClick: () => void; children: string }) {
  return (
    <button type="button" className="text-teal hover:underline" onClick={onClick}>
      {children}
    </button>
  );
}

/** The same said of several rows is said once; what two people wrote stands by itself, to be chosen. */
function grouped(told: readonly Told[]): { one: Told; more: number }[] {
  const groups = new Map<string, { one: Told; more: number }>();
  for (const one of told) {
    const name = one.now === undefined ? `${one.key} ${one.message}` : `${one.id} ${one.key}`;
    const group = groups.get(name);
    if (group) group.more += 1;
    else groups.set(name, { one, more: 0 });
  }
  return [...groups.values()];
}

function toldBy(error: unknown, changes: Staged): Told[] {
  if (!(error instanceof Refused)) return [];
  const rows = [...changes.values()];
  return error.problems.flatMap((p) => {
    const row = rows[p.edit];
    return row ? [{ id: row.id, key: p.field, label: row.label, message: p.message, now: p.now }] : [];
  });
}

function send(kind: 'tag' | 'rule', noun: string, changes: Staged, onlyTry: boolean) {
  const rows = [...changes.values()].map((row) => ({
    id: row.id,
    fresh: row.fresh,
    cells: Object.entries(row.cells).map(([column, { text, was }]) => ({ column, text, ...(row.fresh ? {} : { was }) })),
  }));
  const fresh = rows.filter((r) => r.fresh).length;
  const first = [...changes.values()][0];
  const why =
    rows.length === 1 && fresh === 0
      ? `Changed ${first?.label} in the sheet`
      : [fresh > 0 && `Added ${counted(fresh, noun)}`, rows.length > fresh && `changed ${counted(rows.length - fresh, noun)}`]
          .filter(Boolean)
          .join(' and ')
          .replace(/^./, (c) => c.toUpperCase());
  const body = { why: why.slice(0, 400), rows, try: onlyTry };
  return take(http.POST('/api/tables/{kind}/rows', { params: { path: { kind } }, body }));
}

function takeBack(revision: number) {
  take(http.POST('/api/undo', { body: { revision } }))
    .then(async (done) => {
      await made(done.revision);
      toast('Undone.');
    })
    .catch(complain);
}
