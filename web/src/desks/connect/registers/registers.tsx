// The registers of a device, live, and the way from registers to tags.

import { useQuery } from '@tanstack/react-query';
import clsx from 'clsx';
import { ClipboardPaste, ScanSearch } from 'lucide-react';
import { type MouseEvent, useEffect, useRef, useState } from 'react';
import { http, take } from '../../../api/client';
import type { Item, Point } from '../../../api/model';
import { draftOf, keepDraft, useDraft } from '../../../parts/draft';
import { useSteps } from '../../../parts/steps';
import { counted, moment } from '../../../parts/text';
import { Button, Choice, Field, INPUT, Input } from '../../../parts/ui';
import { blank, type Candidate, readList } from '../candidates';
import { Intake } from '../intake';
import { BITS, SWITCH, VIEWS } from './readings';
import { Scan } from './scan';
import { readType } from './type-text';
import { type Found, halfOrder, likelyType, TYPES, widthOf } from './types';

const TABLES = [
  ['holding', 'Holding registers'],
  ['input', 'Input registers'],
  ['coil', 'Coils'],
  ['discrete', 'Discrete inputs'],
] as const;
const COUNT = 32;

interface Props {
  connection: Item<'connection'>;
  seen: number;
  disabled: boolean;
}

export function Registers({ connection, seen, disabled }: Props) {
  const [table, setTable] = useState('holding');
  const [start, setStart] = useState('0');
  const steps = useSteps<Candidate>(`registers ${connection.id}`);
  const chosen = steps.list;
  const [pasting, setPasting] = useState(draftOf(pasteOf(connection.id)) !== undefined);
  const [scanning, setScanning] = useState(false);
  const [unit, setUnit] = useState('');
  const [shown, setShown] = useState(0);
  const own = connection.set.settings as { unit?: number; order?: string };
  const node = unit.trim() === '' ? table : `${unit.trim()}/${table}`;
  const anchor = useRef<number | null>(null);
  const first = Math.min(65_535, Math.max(0, Math.floor(Number(start)) || 0));
  const page = useQuery({
    queryKey: ['look', connection.id, node, first],
    queryFn: () =>
      take(
        http.POST('/api/connections/{id}/browse', {
          params: { path: { id: connection.id } },
          body: { node, cursor: String(first), most: COUNT },
        }),
      ),
    refetchInterval: 1000,
    staleTime: 0,
    retry: false,
  });
  const items = page.data?.nodes ?? [];
  const changed = useChanged(items);
  const isBits = table === 'coil' || table === 'discrete';
  const order = own.order ?? 'ABCD';
  const columns = isBits ? SWITCH : (VIEWS[shown]?.[1](order) ?? []);

  /** A register as a row: read as somebody clicked it, or else as makes most sense. */
  function candidate(index: number, found: Found, clicked?: string): Candidate {
    const own = found.point as Partial<Point>;
    const shape = readType(clicked ?? likelyType(found, items[index + 1], halfOrder(order)), own.address).fields;
    return blank(found.id, found.parts, found.name, { ...own, ...shape });
  }

  /** Chooses one register, or with Shift all from the last one on, passing over second halves of 32-bit values. */
  function choose(index: number, event: MouseEvent, clicked?: string) {
    const found = items[index];
    if (!found) return;
    if (chosen.some((c) => c.key === found.id)) {
      steps.step((all) =>
        clicked === undefined
          ? all.filter((c) => c.key !== found.id)
          : all.map((c) => (c.key === found.id ? { ...c, type: candidate(index, found, clicked).type } : c)),
      );
      return;
    }
    const from = event.shiftKey && anchor.current !== null ? Math.min(anchor.current, index) : index;
    const to = event.shiftKey && anchor.current !== null ? Math.max(anchor.current, index) : index;
    anchor.current = index;
    const added: Candidate[] = [];
    for (let i = from; i <= to; ) {
      const next = items[i];
      if (!next || next.refused) {
        i += 1;
        continue;
      }
      const made = candidate(i, next, clicked);
      if (!chosen.some((c) => c.key === made.key)) added.push(made);
      i += widthOf(made.type.split(' ')[0] ?? 'u16');
    }
    steps.step((all) => [...all, ...added]);
  }

  return (
    <div>
      <div className="mb-2 flex flex-wrap items-end gap-3">
        <Field label="Table">
          {(p) => (
            <Choice {...p} value={table} className="w-40" onChange={(e) => setTable(e.target.value)}>
              {TABLES.map(([value, name]) => (
                <option key={value} value={value}>
                  {name}
                </option>
              ))}
            </Choice>
          )}
        </Field>
        <Field label="Unit id">
          {(p) => (
            <Input
              {...p}
              className="figures w-16 text-right"
              inputMode="numeric"
              placeholder={String(own.unit ?? 1)}
              value={unit}
              onChange={(e) => setUnit(e.target.value.replace(/\D/g, '').slice(0, 3))}
            />
          )}
        </Field>
        {!isBits && (
          <Field label="Show as">
            {(p) => (
              <Choice {...p} value={shown} className="w-40" onChange={(e) => setShown(Number(e.target.value))}>
                {VIEWS.map(([name], i) => (
                  <option key={name} value={i}>
                    {name}
                  </option>
                ))}
              </Choice>
            )}
          </Field>
        )}
        <Field label="From wire address">
          {(p) => (
            <Input
              {...p}
              className="figures w-20 text-right"
              inputMode="numeric"
              value={start}
              onChange={(e) => setStart(e.target.value)}
            />
          )}
        </Field>
        <Button onClick={() => setStart(String(Math.max(0, first - COUNT)))}>Earlier</Button>
        <Button onClick={() => setStart(String(Math.min(65_504, first + COUNT)))}>Later</Button>
        {!disabled && (
          <>
            <Button className="ml-auto" onClick={() => setScanning(!scanning)} aria-expanded={scanning}>
              <ScanSearch className="size-4" /> Scan
            </Button>
            <Button onClick={() => setPasting(!pasting)} aria-expanded={pasting}>
              <ClipboardPaste className="size-4" /> Paste a list
            </Button>
          </>
        )}
      </div>
      {scanning && <Scan connection={connection.id} node={node} onGo={(at) => setStart(String(at))} />}
      {pasting && (
        <Paste
          draft={pasteOf(connection.id)}
          onTake={(rows) => {
            steps.step((all) => [...all, ...rows]);
            setPasting(false);
          }}
        />
      )}
      {chosen.length > 0 && (
        <Intake connection={connection} seen={seen} parts={page.data?.parts ?? []} steps={steps} disabled={disabled} />
      )}
      {page.error && <p className="mb-2 text-act4">{page.error.message}</p>}
      {items.length > 0 && (
        <div className="max-h-[26rem] overflow-auto border border-line">
          {/* Columns of one width, so that nothing jumps when values change. */}
          <table
            className="w-full table-fixed text-left"
            style={{ minWidth: `${25 + columns.reduce((sum, c) => sum + (c.width ?? 6.8), 0)}rem` }}
          >
            <thead className="sticky top-0 bg-band text-sm">
              <tr className="h-7 whitespace-nowrap">
                <th className="w-28 px-2 font-semibold">Address</th>
                <th className="w-16 px-2 text-right font-semibold" title="The number that goes on the wire; it counts from 0">
                  Wire
                </th>
                <th className="w-20 font-semibold">In manuals</th>
                {columns.map((c) => (
                  <th
                    key={c.title}
                    className={clsx('px-2 font-semibold', !c.left && 'text-right')}
                    style={c.width ? { width: `${c.width}rem` } : undefined}
                  >
                    {c.title}
                  </th>
                ))}
                <th className="w-20 px-2 text-right font-semibold">Changes</th>
                <th className="w-16" aria-label="Choose" />
              </tr>
            </thead>
            <tbody>
              {items.map((found, i) => {
                const isChosen = chosen.some((c) => c.key === found.id);
                const moved = changed.get(found.id);
                return (
                  <tr key={found.id} className={clsx('h-6.5 border-t border-line', isChosen ? 'bg-tint' : 'hover:bg-band')}>
                    <td className="figures px-2">{addressOf(found)}</td>
                    <td className="figures px-2 text-right text-soft">{found.parts[1]}</td>
                    <td className="figures text-soft">{found.parts[2]}</td>
                    {found.refused ? (
                      <td colSpan={columns.length + 1} className="px-2 text-soft">
                        {found.refused}
                      </td>
                    ) : (
                      <>
                        {columns.map((c) => (
                          <td
                            key={c.title}
                            className={clsx(
                              'figures truncate px-2',
                              !c.left && 'text-right',
                              moved?.now && 'font-semibold text-teal',
                            )}
                          >
                            {disabled ? (
                              c.show(found)
                            ) : (
                              // By keyboard the row is chosen and its type written in the cell Type.
                              <button
                                type="button"
                                tabIndex={-1}
                                title={`New tag of type ${c.type}`}
                                className={clsx(
                                  'w-full truncate hover:text-teal hover:underline',
                                  c.left ? 'text-left' : 'text-right',
                                )}
                                onClick={(e) => choose(i, e, c === BITS ? `bool bit ${bitAt(e)}` : c.type)}
                              >
                                {c.show(found)}
                              </button>
                            )}
                          </td>
                        ))}
                        <td className="figures px-2 text-right text-soft">{moved?.times || ''}</td>
                      </>
                    )}
                    <td className="px-2 text-right">
                      {!found.refused && !disabled && (
                        <button
                          type="button"
                          className="text-teal hover:underline"
                          aria-label={`${isChosen ? 'Remove' : 'Choose'} ${addressOf(found)}`}
                          onClick={(e) => choose(i, e)}
                        >
                          {isChosen ? 'remove' : 'choose'}
                        </button>
                      )}
                    </td>
                  </tr>
                );
              })}
            </tbody>
          </table>
        </div>
      )}
      <p className="mt-1 text-sm text-soft">
        {page.data ? `Read at ${moment(page.data.read_at)}. ` : ''}
        Click a reading, and the new tag reads the register like that. Shift and click chooses all in between. Bold: changed since
        the last reading.
      </p>
    </div>
  );
}

/** The address of a found register as this connection's tags write it. */
const addressOf = (found: Found) => (found.point as Partial<Point> | null)?.address ?? found.name;

interface Moves {
  /** It changed with the last reading. */
  now: boolean;
  times: number;
}

/** How often each register has changed while the page looks on. */
function useChanged(items: readonly Found[]): ReadonlyMap<string, Moves> {
  const before = useRef(new Map<string, string>());
  const moves = useRef(new Map<string, Moves>());
  const [, setTurn] = useState(0);
  useEffect(() => {
    for (const found of items) {
      const raw = found.readings[0]?.text ?? '';
      const old = before.current.get(found.id);
      const now = old !== undefined && old !== raw;
      const times = (moves.current.get(found.id)?.times ?? 0) + (now ? 1 : 0);
      moves.current.set(found.id, { now, times });
      before.current.set(found.id, raw);
    }
    setTurn((n) => n + 1);
  }, [items]);
  return moves.current;
}

/** Under which name what was pasted into the box is kept. */
const pasteOf = (connection: string) => `pasted list ${connection}`;

/** Which bit of “0000 0000 0000 0000” was clicked: the digits are of one width. */
function bitAt(event: MouseEvent<HTMLElement>): number {
  const range = document.caretPositionFromPoint?.(event.clientX, event.clientY);
  const text = event.currentTarget.textContent ?? '';
  const at = Math.min(range?.offset ?? text.length - 1, text.length - 1);
  return text.slice(at).replaceAll(' ', '').length - 1;
}

function Paste({ draft, onTake }: { draft: string; onTake: (rows: Candidate[]) => void }) {
  const [text, setText] = useDraft(draft, '');
  const { rows, wrong } = readList(text);
  return (
    <div className="mb-3 rounded border border-line bg-paper p-3">
      <Field
        label="Paste rows from a spreadsheet or manual: address, type, name, unit, factor"
        error={wrong.length > 0 ? `${counted(wrong.length, 'error')}. ${wrong.slice(0, 5).join(' ')}` : undefined}
        hint={`Types are ${TYPES.join(', ')}, with order, length or bits: f32 CDAB, text 8, u16 bit 3; an empty type is the usual one. A factor of 0.1 makes tenths. With a head (address, type, name, place …) columns come in any order.`}
      >
        {(p) => (
          <textarea
            {...p}
            rows={5}
            className={clsx(INPUT, 'h-auto py-1 font-mono')}
            placeholder={'40001\tu16\tLevel\t%\t0.1\n40003\tf32 CDAB\tTemperature\t°C'}
            value={text}
            onChange={(e) => setText(e.target.value)}
          />
        )}
      </Field>
      <Button
        kind="main"
        className="mt-2"
        disabled={rows.length === 0 || wrong.length > 0}
        onClick={() => {
          keepDraft(draft, undefined);
          onTake(rows);
        }}
      >
        Add {counted(rows.length, 'row')}
      </Button>
    </div>
  );
}
