// Binding from the source: everything that a connection offers, matched onto the tags that have no source yet.

import { useVirtualizer } from '@tanstack/react-virtual';
import { useMemo, useRef, useState } from 'react';
import { toast } from 'sonner';
import { http, take } from '../../../api/client';
import type { Item, Point } from '../../../api/model';
import { commit, useItems } from '../../../api/queries';
import { useView } from '../../../app/view';
import { useDraft } from '../../../parts/draft';
import { complain } from '../../../parts/form';
import type { KindView } from '../../../parts/kinds';
import { type Found, holdsOf, sourcesOf } from '../../../parts/nodes/sources';
import { PickField } from '../../../parts/picker';
import { counted } from '../../../parts/text';
import { Button, Tick } from '../../../parts/ui';
import { bindings, type Choices, clashing, type Row, rowsOf, targetOf } from './rows';

interface Props {
  item: Item<'connection'>;
  kind: KindView;
  seen: number;
  disabled: boolean;
}

const LINE = 46;
const NONE: Choices = {};
const TRACKS = '2fr 6rem 2fr 2.4fr';

export function Matching({ item, kind, seen, disabled }: Props) {
  const { at } = useView();
  const under = useItems('place', { only: at }, at !== undefined).data?.items[0];
  const [rows, setRows] = useState<Row[] | null>(null);
  const [told, setTold] = useState('');
  const [progress, setProgress] = useState('');
  const [all, setAll] = useState(false);
  const [busy, setBusy] = useState(false);
  const [choices, setChoices] = useDraft<Choices>(`match ${item.id}`, NONE);
  const stopped = useRef(false);
  const box = useRef<HTMLDivElement>(null);
  const shown = useMemo(
    () => (rows ?? []).filter((row) => all || row.fits.length > 0 || choices[row.found.key]),
    [rows, all, choices],
  );
  const virtual = useVirtualizer({
    count: shown.length,
    getScrollElement: () => box.current,
    estimateSize: () => LINE,
    overscan: 6,
    initialRect: { width: 900, height: 340 },
  });

  async function match() {
    stopped.current = false;
    try {
      const looked = await sourcesOf(item, kind, {
        keep: ({ offer }) => !offer.taken && offer.refused === '',
        tell: ({ nodes }) => setProgress(`${nodes.toLocaleString('en')} nodes looked through`),
        cancelled: () => stopped.current,
      });
      if (stopped.current) return;
      setProgress(`Matching ${counted(looked.found.length, 'value')}`);
      const found = looked.found.map((one: Found) => ({
        path: [...one.path],
        name: one.name,
        unit: (one.offer.set as { unit?: string }).unit ?? '',
        holds: holdsOf(one.offer),
        writable: one.offer.writable,
      }));
      const answer = await take(http.POST('/api/sources/match', { body: { found, under: at ?? null } }));
      const next = rowsOf(looked.found, answer.matched);
      setRows(next);
      const best = next.filter((row) => row.best).length;
      setTold(
        `${counted(found.length, 'free value')} at ${item.set.name}${looked.whole ? '' : ' (not all could be looked through)'}, ` +
          `${counted(answer.open, 'tag')} without a source: ${counted(best, 'match', 'matches')}.`,
      );
    } catch (error) {
      complain(error);
    } finally {
      setProgress('');
    }
  }

  const chosen = bindings(rows ?? [], choices);
  const clash = clashing(chosen);
  async function bind() {
    setBusy(true);
    const why =
      chosen.length === 1
        ? `Bound ${chosen[0]?.target.title} to ${item.set.name}`
        : `Bound ${chosen.length} tags to ${item.set.name}`;
    try {
      await commit(
        why,
        seen,
        chosen.map(({ row, target }) => ({
          op: 'patch',
          kind: 'tag',
          id: target.id,
          set: { connection: item.id, group: null, point: row.found.offer.point as unknown as Point },
        })),
      );
      toast.success(`Bound ${counted(chosen.length, 'tag')}.`);
      setChoices(NONE);
      const bound = new Set(chosen.map(({ row }) => row.found.key));
      setRows((old) => old?.filter((row) => !bound.has(row.found.key)) ?? null);
    } catch (error) {
      complain(error);
    } finally {
      setBusy(false);
    }
  }
  const put = (row: Row, choice: Choices[string]) => setChoices((old) => ({ ...old, [row.found.key]: choice }));

  return (
    <div>
      <div className="mb-2 flex flex-wrap items-center gap-3">
        <Button kind={rows ? 'plain' : 'main'} disabled={disabled || progress !== ''} onClick={() => void match()}>
          {rows ? 'Match again' : 'Match to tags without a source'}
        </Button>
        <span className="text-soft">{under ? `under ${under.title.replaceAll('/', ' / ')}` : 'in the whole plant'}</span>
        {progress && (
          <span role="status" className="flex items-center gap-2">
            {progress}
            <Button
              onClick={() => {
                stopped.current = true;
              }}
            >
              Stop
            </Button>
          </span>
        )}
        {rows && (
          <>
            <Tick label="Also show values that match nothing" checked={all} onChange={setAll} />
            <Button
              kind="main"
              className="ml-auto"
              disabled={disabled || busy || chosen.length === 0 || clash.size > 0}
              onClick={() => void bind()}
            >
              Bind {counted(chosen.length, 'tag')}
            </Button>
          </>
        )}
      </div>
      {rows && <p className="mb-1">{told}</p>}
      {clash.size > 0 && (
        <p role="alert" className="mb-1 text-act4">
          {counted(clash.size, 'tag')} would be bound twice. Choose another tag, or remove one of the two.
        </p>
      )}
      {!rows && (
        <p className="max-w-2xl text-soft">
          Looks through what the connection offers and proposes a tag for each value by name, type and unit. Nothing changes
          before you bind; all of it is one revision that can be undone.
        </p>
      )}
      {rows && (
        <div role="group" aria-label="Matches" className="border border-line">
          <div className="grid gap-3 bg-band px-2 py-1 text-sm font-semibold" style={{ gridTemplateColumns: TRACKS }}>
            <span>At the device</span>
            <span className="text-right">Holds</span>
            <span>Tag</span>
            <span>Why</span>
          </div>
          <div ref={box} className="h-80 overflow-auto">
            {shown.length === 0 && <p className="p-2 text-soft">No value matches a tag without a source.</p>}
            <div className="relative" style={{ height: virtual.getTotalSize() }}>
              {virtual.getVirtualItems().map((v) => {
                const row = shown[v.index];
                if (!row) return null;
                const target = targetOf(row, choices);
                const fit = row.fits.find((f) => f.tag === target?.id);
                const { found } = row;
                return (
                  <div
                    key={found.key}
                    role="group"
                    aria-label={found.name}
                    className="absolute right-0 left-0 grid items-center gap-3 border-b border-line px-2 focus-within:z-40"
                    // Not moved by a transform, which would let the rows below cover its list.
                    style={{ top: v.start, height: LINE, gridTemplateColumns: TRACKS }}
                  >
                    <span className="min-w-0">
                      <span className="block truncate">{found.name}</span>
                      <span className="block truncate text-sm text-soft" title={found.path.join(' / ')}>
                        {found.path.join(' / ')}
                      </span>
                    </span>
                    <span className="figures truncate text-right">
                      {found.offer.readings[0]?.text} {(found.offer.set as { unit?: string }).unit}
                    </span>
                    <span>
                      <PickField
                        label={`Tag for ${found.name}`}
                        kind="tag"
                        none="not bound"
                        under={at}
                        accept={(hit) => hit.tag?.bound === false}
                        disabled={disabled}
                        value={target}
                        onChange={(id, title) => put(row, id ? { id, title: title ?? '' } : null)}
                      />
                    </span>
                    <span className="min-w-0 text-sm">
                      <Why row={row} target={target?.id} fit={fit} clash={target !== undefined && clash.has(target.id)} />
                    </span>
                  </div>
                );
              })}
            </div>
          </div>
        </div>
      )}
    </div>
  );
}

function Why({
  row,
  target,
  fit,
  clash,
}: {
  row: Row;
  target: string | undefined;
  fit: Row['best'] | undefined;
  clash: boolean;
}) {
  if (clash) return <span className="text-act4">This tag is chosen twice.</span>;
  if (target === undefined) {
    const first = row.fits[0];
    if (!first) return <span className="text-soft">No tag fits.</span>;
    const names = row.fits.slice(0, 3).map((f) => f.title.split('/').slice(-2).join(' / '));
    return <span className="line-clamp-2 text-soft">{row.best ? 'Left out.' : `Could be ${names.join(' or ')}.`}</span>;
  }
  if (!fit) return <span className="text-soft">chosen by hand</span>;
  return (
    <span className="line-clamp-2">
      <span className="text-soft">{fit.reasons.join(', ')}</span>{' '}
      {fit.doubts.length > 0 && <b className="font-semibold">{fit.doubts.join(' ')}</b>}
    </span>
  );
}
