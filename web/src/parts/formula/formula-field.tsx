// A formula with what comes of it: what is wrong while it is typed, what it reads, what it gives now and gave over the last hour.

import { keepPreviousData, useQuery } from '@tanstack/react-query';
import { lazy, Suspense, useEffect, useId, useRef } from 'react';
import { http, type Schemas, take } from '../../api/client';
import type { LiveValue } from '../../api/live';
import { Picker } from '../picker';
import { useReading } from '../reading';
import { useSettled } from '../settled';
import { pathEnd, spanWords } from '../text';
import { Choice } from '../ui';
import { QualityMark, Value } from '../value';
import { Hour } from './hour';
import { bytesWords, naming, placeWords } from './text';

/** Where it is typed is a bundle of its own: most pages only show formulas. */
const Editor = lazy(() => import('./editor'));

export type Mixed = 'convert' | 'refuse';
type Tried = Schemas['TriedFormula'];

interface Props {
  text: string;
  mixed: Mixed;
  onText: (text: string) => void;
  onMixed?: (mixed: Mixed) => void;
  /** What the result is to be measured in. */
  unit: string;
  decimals: number;
  states: string | null;
  /** The tag that it computes, once there is one. */
  tag?: string | undefined;
  place?: string | undefined;
  disabled?: boolean;
  /** What the server said when it was saved. */
  error?: string | undefined;
  /** What it is called where several stand together. */
  label?: string;
  /** Shows what it gives now, and not the last hour; how units are mixed is not asked. */
  brief?: boolean;
  /** Hears what is known of the formula as it is typed. */
  onTried?: (tried: Tried | undefined) => void;
}

export function FormulaField(props: Props) {
  const { text, mixed, unit, tag, place, disabled = false, error, onTried } = props;
  const note = useId();
  const insert = useRef<(text: string) => void>(undefined);
  const settled = useSettled(text);
  const asked = { text: settled, mixed, unit, ...(tag ? { tag } : {}), ...(place ? { place } : {}), run: true };
  const tried = useQuery({
    queryKey: ['formula', asked],
    enabled: settled.trim() !== '',
    placeholderData: keepPreviousData,
    refetchInterval: 3000,
    staleTime: 0,
    retry: false,
    queryFn: async () => ({ of: settled, ...(await take(http.POST('/api/formulas/try', { body: asked }))) }),
  });
  const known = settled.trim() === '' ? undefined : tried.data;
  const current = known?.of === text ? known : undefined;
  const wrong = current?.wrong ?? NONE;
  useEffect(() => onTried?.(current), [current, onTried]);
  return (
    <div className="space-y-2">
      <Suspense fallback={<div className="h-18 rounded border border-firm bg-raised" />}>
        <Editor
          value={text}
          onChange={props.onText}
          wrong={wrong}
          under={place}
          label={props.label ?? 'Formula'}
          describedBy={note}
          disabled={disabled}
          onReady={(put) => {
            insert.current = put;
          }}
        />
      </Suspense>
      <div id={note} aria-live="polite" className="min-h-5 text-sm">
        {wrong.map((w) => (
          <p className="text-act4" key={`${w.from} ${w.message}`}>
            At <b>{placeWords(text, w.from, w.to)}</b>: {w.message}
          </p>
        ))}
        {wrong.length === 0 && error && <p className="text-act4">{error}</p>}
        {wrong.length === 0 && tried.error && <p className="text-act4">{tried.error.message}</p>}
        {text.trim() === '' && <p className="text-soft">Type words of a tag’s path and choose it, or a function.</p>}
      </div>
      <div className="flex flex-wrap items-center gap-2">
        <Picker
          label="Insert tag"
          kind="tag"
          under={place}
          disabled={disabled}
          className="w-56"
          onPick={(id) => {
            void named(id).then((path) => path && insert.current?.(naming(path)));
          }}
        />
        {!props.brief && (
          <Choice
            aria-label="Where units are mixed"
            className="w-56"
            disabled={disabled}
            value={mixed}
            onChange={(e) => props.onMixed?.(e.target.value as Mixed)}
          >
            <option value="convert">mixed units are converted</option>
            <option value="refuse">mixed units are refused</option>
          </Choice>
        )}
        <Functions disabled={disabled} onPick={(name) => insert.current?.(`${name}(`)} />
      </div>
      {known && known.wrong.length === 0 && <Result tried={known} {...props} />}
    </div>
  );
}

const NONE: readonly Schemas['MistakeView'][] = [];

/** The path of a tag. */
export async function named(id: string): Promise<string | undefined> {
  const found = await take(http.GET('/api/items/{kind}', { params: { path: { kind: 'tag' }, query: { only: id } } }));
  return found.items[0]?.title;
}

function Functions({ disabled, onPick }: { disabled: boolean; onPick: (name: string) => void }) {
  const all = useQuery({
    queryKey: ['formula functions'],
    queryFn: () => take(http.GET('/api/formulas/functions')),
    staleTime: Number.POSITIVE_INFINITY,
  }).data;
  const from = (all ?? []).map((f) => ({ id: f.name, title: `${f.name}(${f.takes}): ${f.words}` }));
  return <Picker label="Insert function" from={from} disabled={disabled} className="w-56" onPick={onPick} />;
}

function Result({ tried, unit, decimals, states, brief = false }: Props & { tried: Tried }) {
  const reading = useReading({ unit: unit || tried.unit, decimals, states }, true);
  const { result, hour } = tried;
  const value = result as unknown as LiveValue | undefined;
  return (
    <div className={brief ? '' : 'grid grid-cols-[minmax(0,1fr)_minmax(0,1.3fr)] gap-x-5 gap-y-2'}>
      <div>
        <h3 className="text-sm text-soft">{tried.counts ? 'Over the last hour' : 'Now'}</h3>
        {value && (
          <p className="flex items-baseline gap-1.5" data-testid="formula-result">
            <QualityMark value={value} />
            <span className="figures text-[1.25rem] font-semibold">{reading.print(value.value)}</span>
            <span className="text-soft">{unit || tried.unit}</span>
          </p>
        )}
        {value && value.quality !== 'good' && <p className="text-sm text-act4">{sentence(value.reason)}</p>}
        <table className="mt-1 w-full" aria-label="Inputs">
          <tbody>
            {tried.inputs.map((input) => (
              <tr key={input.id} className="h-6">
                <td className="truncate pr-2 text-sm" title={input.title.replaceAll('/', ' / ')}>
                  {pathEnd(input.title)}
                  {!input.recorded && <span className="text-soft"> · not recorded</span>}
                </td>
                <td className="text-right whitespace-nowrap">
                  <Value no={input.no} set={{ unit: input.unit, decimals: 2, states: null }} own className="text-sm" />
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <div>
        {hour && !brief && <Hour hour={hour} reading={reading} />}
        <p className="mt-1 text-sm text-soft">
          {tried.counts && 'Here it counts from the beginning of that hour; the tag counts from when its formula is saved. '}
          {tried.reach_s > 0 && `It looks back ${spanWords(tried.reach_s)}. `}
          {tried.bytes > 0 && `It remembers at most ${bytesWords(tried.bytes)}.`}
        </p>
      </div>
    </div>
  );
}

const sentence = (words: string) => `${words.charAt(0).toUpperCase()}${words.slice(1)}.`;
