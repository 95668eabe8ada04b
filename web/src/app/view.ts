// What an address says: a desk and what it is about, so that every view can be sent to somebody.

import { useNavigate, useSearch } from '@tanstack/react-router';

/** What an address can say; every desk reads what concerns it. */
export interface View {
  /** The chosen place; none is the whole plant. */
  at?: string | undefined;
  /** The tag in the inspector. */
  tag?: string | undefined;
  /** The rule whose alarm is open in the inspector. */
  alarm?: string | undefined;
  /** The alarm rule whose settings are open; `new:` and the id of a tag where one is made. */
  rule?: string | undefined;
  /** Which alarms are listed, and in which order. */
  words?: string | undefined;
  priorities?: string | undefined;
  state?: string | undefined;
  age?: string | undefined;
  /** The name of the class whose alarms are listed. */
  alarm_class?: string | undefined;
  order?: string | undefined;
  /** The columns of the list of alarms, joined by commas; without it the usual ones. */
  columns?: string | undefined;
  /** What the listed rules have in common. */
  finding?: string | undefined;
  /** The rule whose events alone are listed. */
  of?: string | undefined;
  /** The operator's area whose alarms are measured. */
  area?: string | undefined;
  /** The open connection, and what is open of it. */
  connection?: string | undefined;
  part?: string | undefined;
  /** The computed tag whose formula is open; `new` where one is made. */
  formula?: string | undefined;
  /** The equipment class that is open; `new` where one is made. */
  class?: string | undefined;
  report?: string | undefined;
  /** The tag whose way is followed. */
  follow?: string | undefined;
  /** Tags of a trend, joined by commas. */
  tags?: string | undefined;
  /** What a lookup asks for, as far as it is not as usual. */
  look?: Record<string, unknown> | undefined;
  /** Length of the trend or lookup in seconds, and its end in milliseconds where it stands still. */
  span?: number | undefined;
  end?: number | undefined;
  /** The two cursors of the trend, in milliseconds. */
  a?: number | undefined;
  b?: number | undefined;
  /** The instant that is looked back to, in milliseconds. */
  instant?: number | undefined;
  /** So many seconds earlier is drawn as well. */
  earlier?: number | undefined;
}

const TEXTS = [
  'at',
  'tag',
  'alarm',
  'rule',
  'words',
  'priorities',
  'state',
  'age',
  'alarm_class',
  'order',
  'columns',
  'area',
  'of',
  'finding',
  'connection',
  'part',
  'formula',
  'class',
  'report',
  'follow',
  'tags',
] as const;
const NUMBERS = ['span', 'end', 'a', 'b', 'instant', 'earlier'] as const;

/** Reads an address; what it cannot say is left out. */
export function readView(search: Record<string, unknown>): View {
  const view: View = {};
  for (const key of TEXTS) if (typeof search[key] === 'string') view[key] = search[key];
  const { look } = search;
  if (typeof look === 'object' && look !== null && !Array.isArray(look)) view.look = look as Record<string, unknown>;
  for (const key of NUMBERS) if (Number.isFinite(search[key])) view[key] = search[key] as number;
  return view;
}

/** What the address says. */
export function useView(): View {
  return useSearch({ strict: false }) as View;
}

/** Goes to a desk, or stays, with some of the address changed; `undefined` takes a part away. */
export function useGo(): (change: Partial<View>, desk?: string) => void {
  const navigate = useNavigate();
  return (change, desk) => {
    void navigate({ to: desk ?? '.', search: ((old: View) => ({ ...old, ...change })) as never });
  };
}
