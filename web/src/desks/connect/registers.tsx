// The registers of a device, live, and the way from registers to tags.

import { useQuery } from '@tanstack/react-query';
import clsx from 'clsx';
import { ClipboardPaste } from 'lucide-react';
import { type MouseEvent, useEffect, useRef, useState } from 'react';
import { http, take } from '../../api/client';
import type { Item } from '../../api/model';
import { moment } from '../../parts/text';
import { Button, Choice, Field, INPUT, Input } from '../../parts/ui';
import { type Candidate, type Found, likelyType, readList, widthOf } from './candidates';
import { Intake } from './intake';

const TABLES = [
  ['holding', 'Holding registers'],
  ['input', 'Input registers'],
  ['coil', 'Coils'],
  ['discrete', 'Discrete inputs'],
] as const;
const COLUMNS = ['u16', 'i16', 'u32', 'f32', 'text'] as const;
const COUNT = 32;

interface Props {
  connection: Item<'connection'>;
  seen: number;
  disabled: boolean;
}

export function Registers({ connection, seen, disabled }: Props) {
  const [table, setTable] = useState('holding');
  const [start, setStart] = useState('0');
  const [chosen, setChosen] = useState<Candidate[]>([]);
  const [pasting, setPasting] = useState(false);
  const anchor = useRef<number | null>(null);
  const first = Math.min(65_535, Math.max(0, Math.floor(Number(start)) || 0));
  const page = useQuery({
    queryKey: ['look', connection.id, table, first],
    queryFn: () =>
      take(
        http.POST('/api/connections/{id}/look', {
          params: { path: { id: connection.id } },
          body: { table, start: first, count: COUNT } as unknown as Record<string, never>,
        }),
      ),
    refetchInterval: 1000,
    staleTime: 0,
    retry: false,
  });
  const items = page.data?.items ?? [];
  const changed = useChanged(items);
  const isBits = table === 'coil' || table === 'discrete';
  const columns = isBits ? (['bool'] as const) : COLUMNS;

  function candidate(index: number, found: Found): Candidate {
    const type = likelyType(found, items[index + 1]);
    return { address: found.label, type, name: '', unit: '', factor: '', length: 8 };
  }

  /** Chooses one register, or with Shift all from the last one on, passing over second halves of 32-bit values. */
  function choose(index: number, event: MouseEvent) {
    const found = items[index];
    if (!found) return;
    if (chosen.some((c) => c.address === addressOf(connection, found))) {
      setChosen(chosen.filter((c) => c.address !== addressOf(connection, found)));
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
      const made = candidate(i, next);
      const address = addressOf(connection, next);
      if (!chosen.some((c) => c.address === address)) added.push({ ...made, address });
      i += widthOf(made.type);
    }
    setChosen([...chosen, ...added]);
  }

  return (
    <div>
      <div className="mb-2 flex flex-wrap items-end gap-3">
        <Field label="Table">
          {(p) => (
            <Choice {...p} value={table} className="w-44" onChange={(e) => setTable(e.target.value)}>
              {TABLES.map(([value, name]) => (
                <option key={value} value={value}>
                  {name}
                </option>
              ))}
            </Choice>
          )}
        </Field>
        <Field label="From, on the wire">
          {(p) => (
            <Input
              {...p}
              className="figures w-28 text-right"
              inputMode="numeric"
              value={start}
              onChange={(e) => setStart(e.target.value)}
            />
          )}
        </Field>
        <Button onClick={() => setStart(String(Math.max(0, first - COUNT)))}>Earlier</Button>
        <Button onClick={() => setStart(String(Math.min(65_504, first + COUNT)))}>Later</Button>
        <span className="ml-auto pb-1 text-sm text-soft">{page.data ? `read at ${moment(page.data.read_at)}` : ''}</span>
        {!disabled && (
          <Button onClick={() => setPasting(!pasting)} aria-expanded={pasting}>
            <ClipboardPaste className="size-4" /> Paste a list
          </Button>
        )}
      </div>
      {pasting && (
        <Paste
          onTake={(rows) => {
            setChosen([...chosen, ...rows]);
            setPasting(false);
          }}
        />
      )}
      {chosen.length > 0 && <Intake connection={connection} seen={seen} rows={chosen} onChange={setChosen} disabled={disabled} />}
      {page.error && <p className="mb-2 text-act4">{page.error.message}</p>}
      {items.length > 0 && (
        <div className="max-h-[26rem] overflow-auto border border-line">
          <table className="w-full text-left">
            <thead className="sticky top-0 bg-band text-sm">
              <tr className="h-7">
                <th className="w-32 px-2 font-semibold">On the wire</th>
                <th className="w-24 font-semibold">In manuals</th>
                {columns.map((c) => (
                  <th key={c} className={clsx('px-2 font-semibold', c === 'text' ? 'w-20' : 'text-right')}>
                    {c}
                  </th>
                ))}
                <th className="w-24" aria-label="Choose" />
              </tr>
            </thead>
            <tbody>
              {items.map((found, i) => {
                const isChosen = chosen.some((c) => c.address === addressOf(connection, found));
                return (
                  <tr key={found.label} className={clsx('h-6.5 border-t border-line', isChosen ? 'bg-tint' : 'hover:bg-band')}>
                    <td className="figures px-2">{found.label}</td>
                    <td className="figures text-soft">{found.manual}</td>
                    {found.refused ? (
                      <td colSpan={columns.length} className="px-2 text-soft">
                        {found.refused}
                      </td>
                    ) : (
                      columns.map((c) => (
                        <td
                          key={c}
                          className={clsx(
                            'figures max-w-40 truncate px-2',
                            c !== 'text' && 'text-right',
                            changed.has(found.label) && 'font-semibold text-teal',
                          )}
                        >
                          {short(found.readings.find((r) => r.kind === c)?.text)}
                        </td>
                      ))
                    )}
                    <td className="px-2 text-right">
                      {!found.refused && !disabled && (
                        <button
                          type="button"
                          className="text-teal hover:underline"
                          aria-label={`${isChosen ? 'Leave' : 'Choose'} ${found.label}`}
                          onClick={(e) => choose(i, e)}
                        >
                          {isChosen ? 'leave' : 'choose'}
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
        What changed since the last reading stands in bold. Shift and click chooses all in between.
      </p>
    </div>
  );
}

/** The address of a found register as this connection's tags write it: always by the wire, whatever the manual counts from. */
function addressOf(connection: Item<'connection'>, found: Found): string {
  const [table, offset] = found.label.split(' ');
  return `${table} ${Number(offset) + (connection.set.settings.base ?? 1)}`;
}

function short(text: string | undefined): string {
  if (text === undefined || !/^[\x20-\x7e]*$/.test(text)) return '';
  const number = Number(text);
  if (!text.includes('.') && !text.includes('e')) return text;
  if (Number.isNaN(number)) return text;
  return Math.abs(number) >= 1e7 || (number !== 0 && Math.abs(number) < 1e-4)
    ? number.toExponential(2)
    : String(Number(number.toPrecision(7)));
}

/** Labels whose contents differ from the reading before. */
function useChanged(items: readonly Found[]): ReadonlySet<string> {
  const before = useRef(new Map<string, string>());
  const [changed, setChanged] = useState<ReadonlySet<string>>(new Set());
  useEffect(() => {
    const raw = (f: Found) => f.readings[0]?.text ?? '';
    setChanged(
      new Set(items.filter((f) => before.current.has(f.label) && before.current.get(f.label) !== raw(f)).map((f) => f.label)),
    );
    before.current = new Map(items.map((f) => [f.label, raw(f)]));
  }, [items]);
  return changed;
}

function Paste({ onTake }: { onTake: (rows: Candidate[]) => void }) {
  const [text, setText] = useState('');
  const { rows, wrong } = readList(text);
  return (
    <div className="mb-3 rounded border border-line bg-paper p-3">
      <Field
        label="Paste rows from a spreadsheet or manual: address, type, name, unit, factor"
        error={wrong[0]}
        hint="Types are bool, u16, i16, u32, i32, f32 and text(registers). A factor of 0.1 makes tenths."
      >
        {(p) => (
          <textarea
            {...p}
            rows={5}
            className={clsx(INPUT, 'h-auto py-1 font-mono')}
            placeholder={'40001\tu16\tLevel\t%\t0.1\n40003\tf32\tTemperature\t°C'}
            value={text}
            onChange={(e) => setText(e.target.value)}
          />
        )}
      </Field>
      <Button kind="main" className="mt-2" disabled={rows.length === 0 || wrong.length > 0} onClick={() => onTake(rows)}>
        Take {rows.length} rows
      </Button>
    </div>
  );
}
