// A live value: quality before it, unit behind it, age once it is old.

import clsx from 'clsx';
import { type LiveValue, useNow, useValue } from '../api/live';
import type { TagSet } from '../api/model';

/** What of a tag's settings its value is printed with. */
type Printing = Pick<TagSet, 'unit' | 'decimals'>;

import { lasting, printed } from './text';
import { Hint } from './ui';

const MARKS: Record<string, string> = { good: '', uncertain: '~', bad: '⨯' };

/** The mark of a quality, with its reason one hover or focus away. */
export function QualityMark({ value }: { value: LiveValue }) {
  const mark = MARKS[value.quality];
  if (!mark) return null;
  return (
    <Hint text={value.reason}>
      <button type="button" aria-label={`${value.quality}: ${value.reason}`} className="font-mono font-semibold text-act4">
        {mark}
      </button>
    </Hint>
  );
}

/** Age of a value that is older than twice its rhythm. */
export function Age({ value, rhythm }: { value: LiveValue; rhythm: number }) {
  const now = useNow();
  if (!value.time) return null;
  const age = now - Date.parse(value.time);
  if (age < Math.max(2 * rhythm, 2500)) return null;
  return <span className="text-xs text-soft">{lasting(age)} old</span>;
}

export function Value({ no, set, rhythm = 1000, className }: { no: number; set: Printing; rhythm?: number; className?: string }) {
  const value = useValue(no);
  if (!value) return <span className={clsx('figures text-soft', className)}>…</span>;
  const text = printed(value.value, set.decimals);
  return (
    <span className={clsx('inline-flex items-baseline justify-end gap-1', className)} data-quality={value.quality}>
      <Age value={value} rhythm={rhythm} />
      <QualityMark value={value} />
      <span className={clsx('figures font-semibold', value.quality === 'bad' && 'text-soft')}>{text}</span>
      {set.unit && <span className="text-sm text-soft">{set.unit}</span>}
    </span>
  );
}
