// What a change comes to, before it is made: which settings change on how many items, and which stay.

import type { Schemas } from '../../../api/client';
import { counted } from '../../../parts/text';

type Difference = Schemas['EffectView'];
type Line = Schemas['EffectLine'];

const THINGS: Record<string, [string, string]> = {
  place: ['place', 'places'],
  tag: ['tag', 'tags'],
  rule: ['alarm rule', 'alarm rules'],
};

/** A field as people call it. */
const FIELD_WORDS: Record<string, string> = {
  range_low: 'range from',
  range_high: 'range to',
  write_low: 'write from',
  write_high: 'write to',
  record: 'recorded',
  record_deadband: 'deadband',
  record_mode: 'when it is recorded',
  point: 'address',
  states: 'state names',
  on_delay_s: 'on-delay',
  off_delay_s: 'off-delay',
  acknowledge: 'needs to be acknowledged',
  latch: 'latched',
  first_out: 'first-out group',
  if_ignored: 'what happens where nobody acts',
  consequences: 'consequences',
  respond_min: 'act within',
  overruled: 'reason for another priority',
  checked: 'checked',
  writable: 'may be written',
};

export const fieldWords = (field: string) => FIELD_WORDS[field] ?? field.replaceAll('_', ' ');

function what(line: Line): string {
  const [one, many] = THINGS[line.kind] ?? ['item', 'items'];
  if (line.field === '') return `${counted(line.items, one, many)} ${line.after === 'yes' ? 'added' : 'removed'}`;
  if (line.items === 0) return 'changes nowhere';
  return counted(line.items, one, many);
}

function Values({ line }: { line: Line }) {
  if (line.field === '') return null;
  const words = (text: string | null | undefined) => (text === '' ? 'nothing' : text);
  if (line.items === 0) return null;
  if (line.before == null && line.after == null) return <span className="text-soft">different on each</span>;
  return (
    <>
      <span className="text-soft line-through">{line.before == null ? 'different on each' : words(line.before)}</span>{' '}
      {line.after == null ? 'different on each' : words(line.after)}
    </>
  );
}

export function DifferenceTable({ difference }: { difference: Difference }) {
  const { lines, total } = difference;
  const beside: [number, string, string][] = [
    [difference.alarms_begin, 'alarm rule begins', 'alarm rules begin'],
    [difference.alarms_end, 'alarm rule ends', 'alarm rules end'],
    [difference.recordings_begin, 'tag begins to be recorded', 'tags begin to be recorded'],
    [difference.recordings_end, 'tag is no longer recorded', 'tags are no longer recorded'],
  ];
  const said = beside.filter(([count]) => count > 0).map(([count, one, many]) => counted(count, one, many));
  if (total === 0) return <p className="text-soft">Nothing changes on any equipment.</p>;
  return (
    <div>
      <p className="mb-1">
        Changes at {counted(difference.places, 'place')}
        {said.length > 0 && ` · ${said.join(' · ')}`}
      </p>
      <div className="max-h-56 overflow-auto border border-line bg-raised">
        <table className="w-full text-left">
          <thead className="sticky top-0 bg-raised text-sm text-soft">
            <tr>
              <th className="w-1/3 px-2 font-normal">Property</th>
              <th className="px-2 font-normal">Setting</th>
              <th className="px-2 font-normal">Changes on</th>
              <th className="px-2 font-normal">Keeps its override</th>
            </tr>
          </thead>
          <tbody>
            {lines.map((line) => (
              <tr key={`${line.kind} ${line.title} ${line.field} ${line.after ?? ''}`} className="border-t border-line align-top">
                <td className="px-2 py-0.5">{line.title}</td>
                <td className="px-2 py-0.5">
                  {line.field !== '' && <span className="text-soft">{fieldWords(line.field)}: </span>}
                  <Values line={line} />
                </td>
                <td className="px-2 py-0.5 whitespace-nowrap" title={line.examples.join('\n')}>
                  {what(line)}
                </td>
                <td className="px-2 py-0.5 whitespace-nowrap" title={line.kept_examples.join('\n')}>
                  {line.kept > 0 && (line.kept === 1 ? line.kept_examples[0]?.replaceAll('/', ' / ') : `${line.kept} items`)}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      {total > lines.length && <p className="mt-1 text-sm text-soft">{total - lines.length} more lines are not shown.</p>}
    </div>
  );
}
