// A live value: quality before it, unit behind it, age once it is old.

import clsx from 'clsx';
import type { ReactNode } from 'react';
import { type LiveValue, useNow, useValue } from '../api/live';
import { useHands } from '../api/queries';
import { usePast } from '../api/shown';
import { type Printing, useReading, useWorld } from './reading';
import { lasting, moment } from './text';
import { Hint } from './ui';

const MARKS: Record<string, string> = { good: '', uncertain: '~', bad: '⨯' };

function Mark({ text, label, mark, grave }: { text: ReactNode; label: string; mark: string; grave: boolean }) {
  return (
    <Hint text={text}>
      <button type="button" aria-label={label} className={clsx('font-mono font-semibold', grave ? 'text-act4' : 'text-ink')}>
        {mark}
      </button>
    </Hint>
  );
}

/** The mark of a quality, with its reason one hover or focus away. */
export function QualityMark({ value }: { value: LiveValue }) {
  if (value.by_hand) return <HandMark no={value.no} />;
  const mark = MARKS[value.quality];
  if (!mark) return null;
  return <Mark mark={mark} label={`${value.quality}: ${value.reason}`} text={value.reason} grave />;
}

/** Says who set a value by hand, why and until when. */
function HandMark({ no }: { no: number }) {
  const hand = useHands().data?.find((h) => h.no === no);
  const end = hand?.until ? `until ${moment(hand.until)}` : 'until it is released';
  const words = hand ? `Set by hand by ${hand.owner}, ${end}: ${hand.reason}` : 'Set by hand';
  return <Mark mark="✎" label={words} text={words} grave={false} />;
}

/** Age of a value that is older than twice its rhythm. */
export function Age({
  value,
  rhythm,
  connection,
  computed = false,
}: {
  value: LiveValue;
  rhythm: number;
  connection?: string | null | undefined;
  computed?: boolean;
}) {
  const now = useNow();
  const { changing } = useWorld();
  const isPast = usePast();
  // What somebody set by hand does not grow old, nor does what history keeps until it changes, nor does what would have been sent,
  // or computed anew, if it had changed.
  const holds = value.quality === 'good' && (isPast || computed || (connection && changing.has(connection)));
  if (!value.time || value.by_hand || holds) return null;
  const age = now - Date.parse(value.time);
  if (age < Math.max(2 * rhythm, 2500)) return null;
  return <span className="text-xs text-soft">{lasting(age)} old</span>;
}

interface Props {
  no: number;
  set: Printing;
  rhythm?: number;
  /** In the tag's own unit, beside figures that are. */
  own?: boolean;
  /** A formula gives it. */
  computed?: boolean;
  /** Why it is bad, and since when, is said once for all around it. */
  said?: boolean;
  className?: string;
}

export function Value({ no, set, rhythm = 1000, own = false, computed, said = false, className }: Props) {
  const value = useValue(no);
  const reading = useReading(set, own);
  if (!value) return <span className={clsx('figures text-soft', className)}>…</span>;
  const text = reading.print(value.value);
  const title =
    reading.converted && typeof value.value === 'number' ? `${value.value.toFixed(set.decimals)} ${set.unit}` : undefined;
  return (
    <span className={clsx('inline-flex items-baseline justify-end gap-1', className)} data-quality={value.quality} title={title}>
      {!(said && value.quality === 'bad') && (
        <>
          <Age value={value} rhythm={rhythm} connection={set.connection} computed={computed ?? Boolean(set.formula)} />
          <QualityMark value={value} />
        </>
      )}
      <span
        className={clsx(
          'figures font-semibold',
          text.length > 10 && Number.isNaN(Number(text)) && 'truncate',
          value.quality === 'bad' && 'text-soft',
        )}
      >
        {text}
      </span>
      {reading.unit && (
        <span className={clsx('text-sm text-soft', reading.converted && 'underline decoration-dotted underline-offset-3')}>
          {reading.unit}
        </span>
      )}
    </span>
  );
}
