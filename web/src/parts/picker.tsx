// Choosing a tag, a place or a connection: any words of its path in any order, searched on the server.

import { keepPreviousData, useQuery } from '@tanstack/react-query';
import clsx from 'clsx';
import { X } from 'lucide-react';
import { type DragEvent, type KeyboardEvent, useEffect, useId, useRef, useState } from 'react';
import { http, type Schemas, take } from '../api/client';
import { type Dragged, droppedItem, mayDrop } from './drag';
import { pathEnd } from './text';
import { Choice, Input } from './ui';
import { Value } from './value';

export type Hit = Schemas['HitView'];

const SHOWN = 40;

/** One of few things that the page knows already. */
export interface Option {
  id: string;
  title: string;
}

interface Common {
  kind?: Dragged['kind'];
  /** What there is to choose from, where no kind is asked for on the server. */
  from?: readonly Option[];
  /** What lies under this place is offered before anything is typed. */
  under?: string | undefined;
  /** What may be chosen; everything else is left out of the list. */
  accept?: (hit: Hit) => boolean;
  disabled?: boolean | undefined;
  className?: string | undefined;
}

/** What was found for words that are still being typed. */
function useHits({ kind, from, under, accept }: Common, text: string, open: boolean) {
  const words = text.trim();
  // What lies under the place is offered first; words search everywhere.
  const inside = words === '' && under ? { under } : {};
  const found = useQuery({
    queryKey: ['items', 'pick', kind, inside.under ?? '', words],
    enabled: open && kind !== undefined,
    placeholderData: keepPreviousData,
    queryFn: () =>
      take(http.GET('/api/find', { params: { query: { text: words, limit: SHOWN, ...(kind ? { kind } : {}), ...inside } } })),
  });
  type Match = Option & { tag?: Hit['tag'] };
  if (from) {
    const all = words.toLowerCase().split(/\s+/);
    const fitting = from.filter(({ title }) => all.every((word) => title.toLowerCase().includes(word)));
    return { hits: fitting.slice(0, SHOWN) as Match[], total: fitting.length, answered: true };
  }
  const hits: Match[] = (found.data?.found ?? []).filter((hit) => accept?.(hit) ?? true);
  return { hits, total: found.data?.total ?? 0, answered: found.data !== undefined && !found.isPlaceholderData };
}

interface ListProps extends Common {
  label: string;
  placeholder: string;
  /** What stands in the field while nothing is typed. */
  shown?: string;
  /** With Shift the list stays open after a choice, so that several can be taken one after the other. */
  many?: boolean;
  onPick: (hit: Option) => void;
  onClear?: (() => void) | undefined;
  id?: string | undefined;
  invalid?: boolean | undefined;
  describedBy?: string | undefined;
}

function Box({
  label,
  placeholder,
  shown,
  many,
  onPick,
  onClear,
  disabled,
  className,
  id,
  invalid,
  describedBy,
  ...of
}: ListProps) {
  const [text, setText] = useState('');
  const [open, setOpen] = useState(false);
  const [at, setAt] = useState(0);
  const [entered, setEntered] = useState<'no' | 'once' | 'more'>('no');
  const list = useId();
  const box = useRef<HTMLDivElement>(null);
  const { hits, total, answered } = useHits(of, text, open);
  const active = Math.min(at, Math.max(0, hits.length - 1));
  const close = () => {
    setOpen(false);
    setText('');
    setAt(0);
  };
  const pick = (hit: Option | undefined, more: boolean) => {
    if (!hit) return;
    onPick(hit);
    if (!many || !more) close();
  };
  // Enter typed before the answer takes the first of it, never of what was listed before.
  useEffect(() => {
    if (entered === 'no' || !answered) return;
    setEntered('no');
    pick(hits[active], entered === 'more');
  });
  useEffect(() => {
    box.current?.children[active]?.scrollIntoView({ block: 'nearest' });
  }, [active]);
  function onKey(event: KeyboardEvent) {
    if (event.key === 'Enter' && open) setEntered(event.shiftKey ? 'more' : 'once');
    else if (event.key === 'ArrowDown' || event.key === 'ArrowUp') {
      if (open) setAt(Math.min(Math.max(0, active + (event.key === 'ArrowDown' ? 1 : -1)), hits.length - 1));
      else setOpen(true);
    } else if (event.key === 'Escape' && open) {
      event.stopPropagation();
      close();
    } else return;
    event.preventDefault();
  }
  const takes = (e: DragEvent) => !disabled && of.kind !== undefined && mayDrop(e.dataTransfer);
  return (
    <div
      role="group"
      className={clsx('relative print:hidden', className)}
      onBlur={(e) => !e.currentTarget.contains(e.relatedTarget) && close()}
      onDragOver={(e) => takes(e) && e.preventDefault()}
      onDrop={(e) => {
        const item = takes(e) && droppedItem(e.dataTransfer);
        if (!item) return;
        e.preventDefault();
        // A place dropped where a tag is wanted: its tags are offered.
        if (item.kind === of.kind) pick({ id: item.id, title: item.title }, true);
        else {
          setText(`${item.title} `);
          setOpen(true);
          e.currentTarget.querySelector('input')?.focus();
        }
      }}
    >
      <Input
        id={id}
        role="combobox"
        aria-label={label}
        aria-expanded={open}
        aria-controls={list}
        aria-autocomplete="list"
        aria-activedescendant={open && hits.length > 0 ? `${list}-${active}` : undefined}
        aria-invalid={invalid}
        aria-describedby={describedBy}
        autoComplete="off"
        placeholder={placeholder}
        disabled={disabled}
        value={open ? text : (shown ?? text)}
        onFocus={() => setOpen(true)}
        onMouseDown={() => setOpen(true)}
        onChange={(e) => {
          setText(e.target.value);
          setAt(0);
          setOpen(true);
        }}
        onKeyDown={onKey}
      />
      {onClear && shown && !disabled && (
        <button
          type="button"
          aria-label={`Clear ${label}`}
          className="absolute top-1 right-1 rounded p-1 text-soft hover:bg-band"
          onClick={onClear}
        >
          <X className="size-3.5" />
        </button>
      )}
      {open && (
        <div className="absolute z-30 mt-1 w-full min-w-80 rounded border border-firm bg-raised shadow">
          <div ref={box} id={list} role="listbox" aria-label="Matches" className="max-h-72 overflow-auto p-1">
            {hits.map((hit, i) => (
              // biome-ignore lint/a11y/useKeyWithClickEvents: keys act on the field, which keeps the focus
              <div
                key={hit.id}
                id={`${list}-${i}`}
                role="option"
                aria-selected={i === active}
                tabIndex={-1}
                className={clsx('flex h-7 cursor-default items-center gap-2 rounded px-2', i === active && 'bg-tint')}
                onMouseEnter={() => setAt(i)}
                onMouseDown={(e) => e.preventDefault()}
                onClick={(e) => pick(hit, e.shiftKey)}
              >
                <Title title={hit.title} />
                {hit.tag &&
                  (hit.tag.record ? (
                    <Value no={hit.tag.no} set={{ ...hit.tag, states: hit.tag.states ?? null }} className="shrink-0 text-sm" />
                  ) : (
                    <span className="shrink-0 text-sm text-soft">not recorded</span>
                  ))}
              </div>
            ))}
          </div>
          {answered && hits.length === 0 && <p className="px-3 py-1.5 text-soft">No match. Type any words of the path.</p>}
          {many && hits.length > 1 && (
            <p className="border-t border-line px-3 py-1 text-sm text-soft">Shift keeps the list open for several.</p>
          )}
          {total > SHOWN && (
            <p className="border-t border-line px-3 py-1 text-sm text-soft">
              {(total - SHOWN).toLocaleString('en')} more; type another word of the path
            </p>
          )}
        </div>
      )}
    </div>
  );
}

/** The name, and behind it the end of its path, which tells more than the beginning. */
function Title({ title }: { title: string }) {
  const cut = title.lastIndexOf('/');
  return (
    <>
      <span className="shrink-0">{title.slice(cut + 1)}</span>
      <span className="min-w-0 flex-1 truncate text-left text-sm text-soft [direction:rtl]">
        <bdi>{cut > 0 ? title.slice(0, cut).split('/').join(' / ') : ''}</bdi>
      </span>
    </>
  );
}

/** A field with which things are added to a list, one after the other. */
export function Picker({ label, onPick, ...of }: Common & { label: string; onPick: (id: string) => void }) {
  return <Box {...of} label={label} placeholder={`${label}…`} many onPick={(hit) => onPick(hit.id)} />;
}

/** A field that holds one thing. */
export function PickField({
  label,
  value,
  onChange,
  none,
  field,
  ...of
}: Common & {
  label: string;
  /** Id and title of what is chosen. */
  value: { id: string; title: string } | undefined;
  /** What stands there while nothing is chosen; without it something must be. */
  none?: string;
  onChange: (id: string | null, title?: string) => void;
  /** What a form's field hands to its control. */
  field?: { id: string; 'aria-describedby'?: string | undefined; 'aria-invalid'?: boolean | undefined };
}) {
  return (
    <Box
      {...of}
      label={label}
      placeholder={none ?? 'Choose…'}
      {...(value ? { shown: of.kind === 'tag' ? pathEnd(value.title) : value.title.replaceAll('/', ' / ') } : {})}
      onPick={(hit) => onChange(hit.id, hit.title)}
      onClear={none ? () => onChange(null) : undefined}
      id={field?.id}
      invalid={field?.['aria-invalid']}
      describedBy={field?.['aria-describedby']}
    />
  );
}

/** The most entries of a plain list. */
const DOZEN = 12;

/** A field that holds one of some things that the page knows: a plain list for up to a dozen, from then on searched by typing. */
export function ListField({
  label,
  value,
  onChange,
  from,
  none,
  disabled,
  className,
  field,
  focus,
}: {
  label: string;
  value: string;
  onChange: (id: string) => void;
  from: readonly Option[];
  /** What stands there while nothing is chosen; without it something must be. */
  none?: string;
  disabled?: boolean | undefined;
  className?: string | undefined;
  field?: { id: string; 'aria-describedby'?: string | undefined; 'aria-invalid'?: boolean | undefined };
  focus?: boolean | undefined;
}) {
  if (from.length <= DOZEN) {
    return (
      <Choice
        {...field}
        aria-label={field ? undefined : label}
        ref={(box) => {
          if (focus) box?.focus();
        }}
        className={className}
        disabled={disabled}
        value={value}
        onChange={(e) => onChange(e.target.value)}
      >
        {none !== undefined && <option value="">{none}</option>}
        {from.map(({ id, title }) => (
          <option key={id} value={id}>
            {title}
          </option>
        ))}
      </Choice>
    );
  }
  const chosen = from.find(({ id }) => id === value);
  return (
    <PickField
      label={label}
      from={from}
      value={chosen}
      onChange={(id) => onChange(id ?? '')}
      disabled={disabled}
      className={className}
      {...(none === undefined ? {} : { none })}
      {...(field ? { field } : {})}
    />
  );
}
