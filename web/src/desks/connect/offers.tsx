// What a connection offers by itself, chosen for the intake: members of its blocks, or figures of Havrel; and rows made by
// hand where nothing can be found.

import { useQuery } from '@tanstack/react-query';
import { useVirtualizer } from '@tanstack/react-virtual';
import { useRef, useState } from 'react';
import { newId } from '../../api/client';
import type { Item, Point, TagSet } from '../../api/model';
import { textOf } from '../../parts/form';
import { useKind } from '../../parts/kinds';
import { below, MOST, type Offer } from '../../parts/nodes/below';
import { useSteps } from '../../parts/steps';
import { counted } from '../../parts/text';
import { Button, Choice, Field, Input, Tick, Trouble } from '../../parts/ui';
import { blank, type Candidate } from './candidates';
import { Intake } from './intake';

interface Props {
  item: Item<'connection'>;
  seen: number;
  disabled: boolean;
}

/** Offers of one page. */
const PAGE = 5000;

function candidateOf(offer: Offer): Candidate {
  const set: Partial<Pick<TagSet, 'unit' | 'states' | 'decimals' | 'range_low' | 'range_high'>> = offer.set;
  return {
    ...blank(JSON.stringify(offer.point), offer.parts, offer.parts.slice(0, 3).join(' '), offer.point as Partial<Point>),
    unit: set.unit ?? '',
    decimals: textOf(set.decimals),
    low: textOf(set.range_low),
    high: textOf(set.range_high),
    states: set.states ?? null,
  };
}

export function Offers({ item, node, seen, disabled }: Props & { node: string }) {
  const outline = useQuery({
    queryKey: ['items', 'offers', item.id, node],
    queryFn: () => below(item.id, node, PAGE),
    staleTime: 0,
  });
  const [text, setText] = useState('');
  const [free, setFree] = useState(true);
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const steps = useSteps<Candidate>(`offers ${item.id}`);
  const box = useRef<HTMLDivElement>(null);
  const words = text.toLowerCase().split(/\s+/).filter(Boolean);
  const offers = (outline.data?.nodes ?? []).filter(
    (offer) => !(free && offer.taken) && words.every((w) => `${offer.parts.join(' ')} ${offer.name}`.toLowerCase().includes(w)),
  );
  const virtual = useVirtualizer({
    count: offers.length,
    getScrollElement: () => box.current,
    estimateSize: () => 28,
    overscan: 8,
    initialRect: { width: 800, height: 300 },
  });
  const key = (offer: Offer) => JSON.stringify(offer.point);
  const parts = outline.data?.parts ?? [];
  if (steps.list.length > 0) {
    return (
      <>
        <Button kind="quiet" className="mb-2" onClick={steps.clear}>
          Discard these rows
        </Button>
        <Intake connection={item} seen={seen} parts={parts} steps={steps} disabled={disabled} />
      </>
    );
  }
  const picked = (outline.data?.nodes ?? []).filter((o) => chosen.has(key(o)));
  return (
    <div>
      <Trouble error={outline.error} />
      {outline.data?.nodes.length === 0 && (
        <p className="text-soft">Nothing here yet. Map a layout under Blocks, and its members are listed here.</p>
      )}
      {(outline.data?.nodes.length ?? 0) > 0 && (
        <>
          <div className="mb-2 flex flex-wrap items-end gap-3">
            <Field label="Filter" className="w-64">
              {(p) => <Input {...p} value={text} onChange={(e) => setText(e.target.value)} />}
            </Field>
            <span className="pb-1">
              <Tick label="Only without a tag" checked={free} onChange={setFree} />
            </span>
            <Button
              disabled={offers.length === 0 || disabled}
              onClick={() => setChosen(new Set([...chosen, ...offers.filter((o) => !o.taken).map(key)]))}
            >
              Choose all {offers.length.toLocaleString('en')} shown
            </Button>
            {outline.data?.more && (
              <span className="pb-1 text-soft">Only the first {MOST.toLocaleString('en')} are listed; add them first.</span>
            )}
            {chosen.size > 0 && <Button onClick={() => setChosen(new Set())}>Choose none</Button>}
            <Button
              kind="main"
              disabled={picked.length === 0 || disabled}
              onClick={() => steps.step(() => picked.map(candidateOf))}
            >
              Add {counted(picked.length, 'row')}
            </Button>
          </div>
          <div ref={box} className="h-72 overflow-auto border border-line" role="group" aria-label="What the connection offers">
            {offers.length === 0 && (
              <p className="p-2 text-soft">{words.length > 0 ? 'No match.' : 'Everything found has a tag already.'}</p>
            )}
            <div className="relative" style={{ height: virtual.getTotalSize() }}>
              {virtual.getVirtualItems().map((v) => {
                const offer = offers[v.index];
                if (!offer) return null;
                const on = chosen.has(key(offer));
                return (
                  <div
                    key={key(offer)}
                    className="absolute right-0 left-0 flex h-7 items-center gap-3 border-b border-line px-2 hover:bg-band"
                    style={{ transform: `translateY(${v.start}px)` }}
                  >
                    <Tick
                      hideLabel
                      label={`Choose ${offer.parts.join(' ')}`}
                      checked={on}
                      disabled={Boolean(offer.taken) || disabled}
                      onChange={(yes) => {
                        const next = new Set(chosen);
                        if (yes) next.add(key(offer));
                        else next.delete(key(offer));
                        setChosen(next);
                      }}
                    />
                    {offer.parts.slice(0, 3).map((part, i) => (
                      // biome-ignore lint/suspicious/noArrayIndexKey: parts have no identity but their place
                      <span key={i} className={i === 2 ? 'w-48 truncate' : 'w-36 truncate'}>
                        {part}
                      </span>
                    ))}
                    <span className="figures w-56 truncate text-soft">{offer.name}</span>
                    <span className="min-w-0 flex-1 truncate text-soft">
                      {offer.taken && `is ${offer.taken.replaceAll('/', ' / ')}`}
                    </span>
                  </div>
                );
              })}
            </div>
          </div>
        </>
      )}
    </div>
  );
}

/** Rows made by hand: for values that are pushed, kept or made up there is nothing to find. */
export function ByHand({ item, seen, disabled }: Props) {
  const starts = useKind(item.set.kind)?.starts ?? [];
  const [which, setWhich] = useState(0);
  const [count, setCount] = useState('1');
  const steps = useSteps<Candidate>(`by hand ${item.id}`);
  const add = () => {
    const { words = '', point = {} } = starts[which] ?? {};
    const many = Math.min(2000, Math.max(1, Math.floor(Number(count)) || 1));
    const more = Array.from({ length: many }, (_, i) => {
      const n = steps.list.length + i + 1;
      return blank(
        newId(),
        [words.replace(/^an? /, ''), String(n)],
        `${words.replace(/^an? /, '')} ${n}`,
        point as Partial<Point>,
      );
    });
    steps.step((all) => [...all, ...more]);
  };
  return (
    <div>
      <div className="mb-3 flex flex-wrap items-end gap-3">
        <Field label="A tag that holds" className="w-56">
          {(p) => (
            <Choice {...p} value={which} onChange={(e) => setWhich(Number(e.target.value))}>
              {starts.map(({ words }, i) => (
                <option key={words} value={i}>
                  {words}
                </option>
              ))}
            </Choice>
          )}
        </Field>
        <Field label="How many" className="w-20">
          {(p) => <Input {...p} className="figures text-right" value={count} onChange={(e) => setCount(e.target.value)} />}
        </Field>
        <Button disabled={disabled} onClick={add}>
          Add {counted(Math.min(2000, Math.max(1, Math.floor(Number(count)) || 1)), 'row')}
        </Button>
      </div>
      {steps.list.length > 0 && (
        <Intake connection={item} seen={seen} parts={['kind', 'number']} steps={steps} disabled={disabled} />
      )}
    </div>
  );
}
