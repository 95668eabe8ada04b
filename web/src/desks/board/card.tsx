// A piece of equipment on a card: its values as rows, its parts below.

import clsx from 'clsx';
import { useMemo, useRef } from 'react';
import type { Item, RuleSet } from '../../api/model';
import { useAlarms } from '../../api/queries';
import { useGo, useView } from '../../app/view';
import { dragItem } from '../../parts/drag';
import { RangeRule } from '../../parts/range-rule';
import { useSeen } from '../../parts/seen';
import { Spark, useSparks } from '../../parts/spark';
import { Value } from '../../parts/value';
import { arrange, type CardOf, type Section, type Tag } from './cards';
import type { TroubleMap } from './troubles';
import { Worst } from './worst';

const NONE: readonly string[] = [];

interface Props {
  card: CardOf;
  rules: Item<'rule'>[];
  troubles: TroubleMap;
}

export function Card({ card, rules, troubles }: Props) {
  const view = useView();
  const go = useGo();
  const { place, tags } = card;
  const { head, rows, below } = useMemo(() => arrange(tags), [tags]);
  const recorded = useMemo(() => rows.filter((t) => t.recorded).map((t) => t.id), [rows]);
  const box = useRef<HTMLElement>(null);
  const sparks = useSparks(useSeen(box) ? recorded : NONE);
  const rulesOf = useMemo(() => Map.groupBy(rules, (r) => r.set.tag), [rules]);
  const said = (tag: Tag) => troubles.has(tag.set.connection ?? '');
  const reads = (id: string) => [card, ...card.parts].some((s) => s.tags.some((t) => t.set.connection === id));
  // What is seen on several cards stands above them.
  const own = [...troubles].filter(([id, { seen }]) => seen === 1 && reads(id));
  const number = (id: string | null) => tags.find((t) => t.id === id)?.no;
  const open = (tag: Tag) => go({ tag: tag.id });
  const lines = rows.length + Math.min(below.length, 1) + card.parts.length;
  return (
    <section
      ref={box}
      aria-label={place.name}
      // A whole plant has hundreds: those out of sight are not laid out, and guessed at by their rows.
      className="rounded-md border border-line bg-raised px-3 pt-2 pb-1.5 [content-visibility:auto] print:[content-visibility:visible]"
      style={{ containIntrinsicBlockSize: `auto ${44 + 28 * lines}px` }}
    >
      <header className="flex h-7 items-center gap-2">
        <h2 className="truncate text-[0.9375rem] font-semibold">
          {card.of && <span className="font-normal text-soft">{card.of} / </span>}
          {place.name}
        </h2>
        {card.idle && <span className="shrink-0 rounded border border-line px-1.5 text-sm text-soft">out of service</span>}
        <AlarmsOf place={place.id} />
        <span className="ml-auto flex min-w-0 items-center gap-3 truncate text-sm text-soft">
          {head.map((tag) => (
            <span key={tag.id} className="flex items-baseline gap-1">
              <button type="button" className="hover:text-teal" onClick={() => open(tag)}>
                {tag.set.name}
              </button>
              <Value no={tag.no} set={tag.set} said={said(tag)} className="text-ink" />
            </span>
          ))}
        </span>
      </header>
      {own.map(([id, { words }]) => (
        <p key={id} className="truncate border-t border-line py-0.5 text-act4" title={words}>
          ⨯ {words}
        </p>
      ))}
      <ul>
        {rows.map((tag) => {
          const limits: RuleSet[] = (rulesOf.get(tag.id) ?? []).map((r) => r.set);
          return (
            <li
              key={tag.id}
              draggable
              onDragStart={(e) => dragItem(e.dataTransfer, { kind: 'tag', id: tag.id, title: tag.title })}
              className={clsx('flex h-7 items-center gap-3 border-t border-line', view.tag === tag.id && 'bg-tint')}
            >
              <button type="button" className="min-w-0 flex-1 truncate text-left hover:text-teal" onClick={() => open(tag)}>
                {tag.set.name}
              </button>
              <Value no={tag.no} set={tag.set} said={said(tag)} className="w-32 shrink-0" />
              <RangeRule no={tag.no} set={tag.set} rules={limits} setpoint={number(tag.set.setpoint)} />
              <Spark columns={sparks.data?.get(tag.id)} name={tag.set.name} set={tag.set} />
            </li>
          );
        })}
      </ul>
      {below.length > 0 && (
        <div className="border-t border-line py-1">
          <Row tags={below} said={said} />
        </div>
      )}
      {card.parts.map((part) => (
        <PartOf key={part.place.id} part={part} said={said} />
      ))}
    </section>
  );
}

/** Values one after the other, each behind its name. */
function Row({ tags, said }: { tags: readonly Tag[]; said: (tag: Tag) => boolean }) {
  const go = useGo();
  return (
    <div className="flex flex-wrap gap-x-4 text-sm">
      {tags.map((tag) => (
        <span key={tag.id} className="flex items-baseline gap-1.5 py-0.5">
          <button type="button" className="text-soft hover:text-teal" onClick={() => go({ tag: tag.id })}>
            {tag.set.name}
          </button>
          <Value no={tag.no} set={tag.set} said={said(tag)} />
        </span>
      ))}
    </div>
  );
}

/** A part of the equipment: its name, behind which its values stand. */
function PartOf({ part, said }: { part: Section; said: (tag: Tag) => boolean }) {
  const go = useGo();
  return (
    <section
      aria-label={part.place.name}
      className="grid grid-cols-[6.5rem_minmax(0,1fr)] items-baseline gap-2 border-t border-line py-1"
    >
      <h3 className="flex min-w-0 items-center gap-1.5">
        <button
          type="button"
          className="truncate font-semibold hover:text-teal"
          title={part.place.name}
          onClick={() => go({ at: part.place.id, part: 'cards' })}
        >
          {part.place.name}
        </button>
        <AlarmsOf place={part.place.id} />
      </h3>
      <Row tags={part.tags} said={said} />
    </section>
  );
}

/** The alarms of a place. */
function AlarmsOf({ place }: { place: string }) {
  const alarms = useAlarms().data?.alarms;
  return <Worst alarms={alarms?.filter((alarm) => alarm.place === place)} />;
}
