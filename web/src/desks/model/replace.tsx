// Find and replace over the cells of a sheet: what would change is shown first, then staged, then saved with everything else.

import { type RefObject, useEffect, useState } from 'react';
import type { GridHandle, GridRow } from '../../parts/grid';
import { ListField } from '../../parts/picker';
import { replaced, type Write } from '../../parts/staged';
import { counted } from '../../parts/text';
import { Button, Field, Input, Tick } from '../../parts/ui';

interface Hit {
  row: GridRow;
  key: string;
  before: string;
  after: string;
}

interface Props {
  grid: RefObject<GridHandle | null>;
  columns: readonly { key: string; title: string }[];
  onWrite: (writes: Write[]) => void;
  onClose: () => void;
}

export function Replace({ grid, columns, onWrite, onClose }: Props) {
  const [find, setFind] = useState('');
  const [by, setBy] = useState('');
  const [column, setColumn] = useState('name');
  const [matchCase, setMatchCase] = useState(false);
  const [rows, setRows] = useState<{ row: GridRow; texts: Record<string, string> }[]>([]);
  // The range as it was when this opened.
  useEffect(() => {
    void grid.current?.inRange().then(setRows);
  }, [grid]);
  const hits: Hit[] = rows.flatMap(({ row, texts }) =>
    Object.entries(texts).flatMap(([key, before]) => {
      if (column !== '' && key !== column) return [];
      const after = replaced(before, find, by, matchCase);
      return after === undefined ? [] : [{ row, key, before, after }];
    }),
  );
  return (
    <form
      aria-label="Find and replace"
      className="mb-2 rounded border border-teal bg-raised p-2.5"
      onSubmit={(e) => {
        e.preventDefault();
        onWrite(hits.map((h) => ({ row: h.row, key: h.key, text: h.after, was: h.before })));
        onClose();
      }}
      onKeyDown={(e) => e.key === 'Escape' && onClose()}
    >
      <div className="flex flex-wrap items-end gap-2.5">
        <Field label="Find" className="w-44">
          {(p) => <Input {...p} autoFocus value={find} onChange={(e) => setFind(e.target.value)} />}
        </Field>
        <Field label="Replace with" className="w-44">
          {(p) => <Input {...p} value={by} onChange={(e) => setBy(e.target.value)} />}
        </Field>
        <Field label="In" className="w-36">
          {(p) => (
            <ListField
              label="In"
              from={columns.map((c) => ({ id: c.key, title: c.title }))}
              none="every column"
              field={p}
              value={column}
              onChange={setColumn}
            />
          )}
        </Field>
        <span className="flex h-7 items-center">
          <Tick label="Match case" checked={matchCase} onChange={setMatchCase} />
        </span>
        <span className="flex-1" />
        <Button kind="main" type="submit" disabled={hits.length === 0}>
          Write {counted(hits.length, 'cell')}
        </Button>
        <Button kind="quiet" onClick={onClose}>
          Close
        </Button>
      </div>
      <p className="mt-1.5 text-sm text-soft" aria-live="polite">
        {find === ''
          ? `Looks in ${counted(rows.length, 'row')}: the chosen ones, or all where only one cell is chosen.`
          : `${counted(hits.length, 'cell')} of ${counted(rows.length, 'row')} would change; nothing is saved yet.`}
      </p>
      {hits.length > 0 && (
        <ul className="mt-1 max-h-28 overflow-auto text-sm">
          {hits.slice(0, 100).map((h) => (
            <li key={`${h.row.id} ${h.key}`}>
              <span className="text-soft">{h.row.label.replaceAll('/', ' / ')}:</span> {h.before}{' '}
              <span className="text-soft">becomes</span> {h.after === '' ? <i className="text-soft">nothing</i> : h.after}
            </li>
          ))}
        </ul>
      )}
    </form>
  );
}
