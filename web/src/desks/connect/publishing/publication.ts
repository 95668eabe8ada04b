// Publications as they are typed on the page: what a new one begins with, and what they say in a sentence.

import { newId, type Schemas } from '../../../api/client';
import type { PublicationSet, When } from '../../../api/model';
import { numberOf, textOf } from '../../../parts/form';
import { counted, spanWords } from '../../../parts/text';

/** A publication that is made or changed; numbers are text while they are typed. */
export interface Draft extends Omit<PublicationSet, 'when' | 'connection' | 'order'> {
  id: string;
  /** It exists already. */
  saved: boolean;
  on: When['on'];
  deadband: string;
  percent: boolean;
  shortest: string;
  longest: string;
  every: string;
}

/** The draft of a publication of a connection, by the name under which it is kept. */
export const draftName = (connection: string) => `publication ${connection}`;

/** Payloads to begin with. */
export const BEGINNINGS: { title: string; format: PublicationSet['format']; payload: string }[] = [
  {
    title: 'value with time and quality',
    format: 'json',
    payload: '{"value": "{value}", "time": "{time}", "quality": "{quality}"}',
  },
  {
    title: 'all about a value',
    format: 'json',
    payload:
      '{\n  "name": "{path}",\n  "value": "{value}",\n  "unit": "{unit}",\n  "time": "{time}",\n  "quality": "{quality}",\n  "reason": "{reason}"\n}',
  },
  { title: 'the value alone', format: 'text', payload: '{value}' },
  {
    title: 'a list of several tags',
    format: 'json',
    payload:
      '{\n  "sent": "{now}",\n  "values": [{"name": "{path}", "value": "{value}", "time": "{time}", "quality": "{quality}"}]\n}',
  },
  { title: 'a member for each tag', format: 'json', payload: '{"sent": "{now}", "{name}": "{value}"}' },
];

/** What stands for something of a tag: in a topic, and besides in a payload. */
export const TOPIC_FIELDS = ['{path}', '{name}', '{1}', '{2}', '{3}', '{unit}'];
export const PAYLOAD_FIELDS = [
  '{value}',
  '{text}',
  '{time}',
  '{time_ms}',
  '{quality}',
  '{reason}',
  '{unit}',
  '{name}',
  '{path}',
  '{now}',
  '{now_ms}',
];

/** A new one; `metrics`: what it sends leaves as metrics of devices, whose payload is a matter of the protocol. */
export function blank(metrics = false): Draft {
  const [{ format, payload }] = BEGINNINGS as [(typeof BEGINNINGS)[0]];
  return {
    id: newId(),
    saved: false,
    name: '',
    enabled: true,
    tags: [],
    places: [],
    words: '',
    topic: metrics ? '{3}/{name}' : '{path}',
    plain: !metrics,
    format,
    payload: metrics ? '' : payload,
    on: 'change',
    deadband: '',
    percent: false,
    shortest: '',
    longest: '',
    every: '10',
    all: true,
    retain: false,
    qos: 1,
    keep: true,
    write_tags: [],
    write_topic: '',
    write_member: '',
  };
}

/** What is typed in seconds, in milliseconds. What is no number stays, so that the server says so. */
function milliseconds(text: string): number {
  const seconds = numberOf(text);
  return typeof seconds === 'number' ? Math.round(seconds * 1000) : (seconds ?? 0);
}

export function whenOf(draft: Draft): When {
  if (draft.on === 'interval') return { on: 'interval', every_ms: milliseconds(draft.every) };
  return {
    on: 'change',
    deadband: numberOf(draft.deadband) ?? 0,
    percent: draft.percent,
    shortest_ms: milliseconds(draft.shortest),
    longest_s: numberOf(draft.longest) ?? 0,
  };
}

/** What is stored of a draft. */
export function setOf(draft: Draft): Omit<PublicationSet, 'connection' | 'order'> {
  const {
    id: _,
    saved: __,
    on: ___,
    deadband: ____,
    percent: _____,
    shortest: ______,
    longest: _______,
    every: ________,
    ...set
  } = draft;
  return {
    ...set,
    name: set.name.trim(),
    topic: set.topic.trim(),
    write_topic: set.write_tags.length > 0 ? set.write_topic.trim() : '',
    write_member: set.write_member.trim(),
    when: whenOf(draft),
  };
}

/** A publication that exists, for changing it. */
export function draftOf(id: string, { connection: _, order: __, when, ...set }: PublicationSet): Draft {
  const typed = (value: number) => (value ? textOf(value) : '');
  const none = { deadband: '', percent: false, shortest: '', longest: '', every: '10' };
  if (when.on === 'interval') return { ...set, ...none, id, saved: true, on: when.on, every: textOf(when.every_ms / 1000) };
  const { deadband, percent, shortest_ms, longest_s } = when;
  const [shortest, longest] = [typed(shortest_ms / 1000), typed(longest_s)];
  return { ...set, ...none, id, saved: true, on: when.on, deadband: typed(deadband), percent, shortest, longest };
}

/** When it sends, in words. */
export function whenWords(when: When): string {
  if (when.on === 'interval') return `every ${spanWords(when.every_ms / 1000)}`;
  const parts = ['on change'];
  if (when.deadband > 0) parts.push(`of more than ${when.deadband}${when.percent ? ' %' : ''}`);
  if (when.shortest_ms > 0) parts.push(`at most every ${spanWords(when.shortest_ms / 1000)}`);
  if (when.longest_s > 0) parts.push(`at least every ${spanWords(when.longest_s)}`);
  return parts.join(', ').replace('change, of', 'change of');
}

/** What of a publication needs somebody, in words; empty while all is well. */
export function troubleOf({ problems, refused, words, ...writes }: Schemas['PublicationView']): string {
  const [first] = problems;
  const rest = problems.length > 1 ? ` (and ${problems.length - 1} more)` : '';
  const no = refused > 0 ? `${counted(refused, 'message')} refused, the last on ${words}` : '';
  const out =
    writes.write_refused > 0 ? `${counted(writes.write_refused, 'write')} refused, the last on ${writes.write_words}` : '';
  return [first && first + rest, no, out].filter(Boolean).join(' ');
}
