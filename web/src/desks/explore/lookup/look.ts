// A lookup as it is typed, as it stands in the address, and as the server takes it.

import { FIGURES, type Figure, type LookupEvery, type LookupSet, type TagChoice } from '../../../api/model';
import { numberOf } from '../../../parts/form';
import type { Period } from '../../../parts/period';
import { EVERY_TAG } from '../../../parts/tag-choices';

export interface Look {
  tags: string[];
  choices: TagChoice[];
  of: LookupSet['rows']['of'];
  held: boolean;
  /** How far instants or spans lie apart. */
  count: string;
  unit: LookupEvery['unit'];
  line: boolean;
  figures: Figure[];
  shape: LookupSet['shape'];
  quality: LookupSet['quality'];
  condition: string;
  newest: boolean;
  qualities: boolean;
}

export const USUAL: Look = {
  tags: [],
  choices: [],
  of: 'stored',
  held: false,
  count: '1',
  unit: 'minute',
  line: false,
  figures: ['average', 'minimum', 'maximum'],
  shape: 'wide',
  quality: 'any',
  condition: '',
  newest: false,
  qualities: false,
};

/** Whether it names any tags yet. */
export const asksForTags = (look: Look) =>
  look.tags.length > 0 || look.choices.some((choice) => JSON.stringify(choice) !== JSON.stringify(EVERY_TAG));

/** What of it the address says: only what is not as usual. */
export function toAddress(look: Look): Record<string, unknown> | undefined {
  const own = Object.entries(look).filter(([key, value]) => JSON.stringify(value) !== JSON.stringify(USUAL[key as keyof Look]));
  return own.length > 0 ? Object.fromEntries(own) : undefined;
}

/** What an address says; of what cannot be read it is as usual. */
export function fromAddress(found: Record<string, unknown> | undefined): Look {
  const alike = ([key, usual]: [string, unknown]) => {
    const given = found?.[key];
    const fits = Array.isArray(usual) ? Array.isArray(given) : typeof given === typeof usual;
    return [key, fits ? given : usual];
  };
  const look = Object.fromEntries(Object.entries(USUAL).map(alike)) as unknown as Look;
  return {
    ...look,
    tags: look.tags.filter((tag) => typeof tag === 'string'),
    choices: look.choices.filter((one) => typeof one === 'object' && one !== null).map((one) => ({ ...EVERY_TAG, ...one })),
    figures: FIGURES.filter((figure) => look.figures.includes(figure)),
  };
}

/** As the server takes it, for a period that ends at an instant. */
export function setOf(look: Look, period: LookupSet['period']): LookupSet {
  const every = { count: Math.round(numberOf(look.count) ?? 0), unit: look.unit };
  const rows: Record<Look['of'], LookupSet['rows']> = {
    stored: { of: 'stored', held: look.held },
    instants: { of: 'instants', every, line: look.line },
    spans: { of: 'spans', every, figures: look.figures },
  };
  const choices = look.choices.filter((choice) => JSON.stringify(choice) !== JSON.stringify(EVERY_TAG));
  return {
    tags: look.tags,
    choices,
    period,
    rows: rows[look.of],
    shape: look.shape,
    // Spans leave out what is bad by themselves.
    quality: look.of === 'spans' ? 'any' : look.quality,
    condition: look.condition.trim() ? { text: look.condition, mixed: 'convert' } : null,
    newest_first: look.newest,
    qualities: look.qualities && look.of !== 'spans' && look.shape === 'wide',
    zone: Intl.DateTimeFormat().resolvedOptions().timeZone || 'UTC',
  };
}

/** A kept lookup as it is typed. */
export function lookOf(set: LookupSet): { look: Look; period: Period } {
  const { rows } = set;
  const every = rows.of === 'stored' ? { count: 1, unit: USUAL.unit } : rows.every;
  const look: Look = {
    ...USUAL,
    tags: set.tags,
    choices: set.choices.map((one) => ({ ...EVERY_TAG, ...one })),
    of: rows.of,
    held: rows.of === 'stored' && rows.held,
    count: String(every.count),
    unit: every.unit,
    line: rows.of === 'instants' && rows.line,
    figures: rows.of === 'spans' ? rows.figures : USUAL.figures,
    shape: set.shape,
    quality: set.quality,
    condition: set.condition?.text ?? '',
    newest: set.newest_first,
    qualities: set.qualities,
  };
  const { last_s, from, to } = set.period;
  if (last_s) return { look, period: { span: last_s } };
  const end = Date.parse(to ?? '');
  return { look, period: { span: (end - Date.parse(from ?? '')) / 1000, end } };
}

/** The instants of a period that ends now, or where it stands still. */
export function between({ span, end }: Period, now: number): { from: string; to: string } {
  const to = end ?? now;
  return { from: new Date(Math.round(to - span * 1000)).toISOString(), to: new Date(Math.round(to)).toISOString() };
}
