// The source of a tag, found by words over everything that the connections offer.

import { useRef, useState } from 'react';
import type { Item, Point } from '../api/model';
import { useItems } from '../api/queries';
import { complain } from '../parts/form';
import { useKinds } from '../parts/kinds';
import { canLook, type Found, hasWords, sourcesOf } from '../parts/nodes/sources';
import { counted } from '../parts/text';
import { Button, Field, Input } from '../parts/ui';

/** Most that is listed. */
const MOST = 100;

interface Props {
  tag: Item<'tag'>;
  disabled: boolean;
  onPick: (connection: string, point: Partial<Point>) => void;
  onClose: () => void;
}

interface Answer {
  found: Found[];
  /** What went wrong, by the name of the connection. */
  failed: string[];
  whole: boolean;
  words: string;
}

export function FindSource({ tag, disabled, onPick, onClose }: Props) {
  const [words, setWords] = useState(tag.set.name);
  const [progress, setProgress] = useState('');
  const [answer, setAnswer] = useState<Answer | null>(null);
  const stopped = useRef(false);
  const kinds = useKinds();
  const connections = useItems('connection').data?.items ?? [];
  const names = new Map(connections.map((c) => [c.id, c.set.name]));

  async function find() {
    stopped.current = false;
    const found: Found[] = [];
    const failed: string[] = [];
    let whole = true;
    for (const connection of connections) {
      const kind = kinds.find((k) => k.kind === connection.set.kind);
      if (!kind || !canLook(kind) || stopped.current || found.length >= MOST) continue;
      const name = connection.set.name;
      try {
        const looked = await sourcesOf(connection, kind, {
          keep: (one) => hasWords(one, words),
          most: MOST - found.length,
          tell: ({ nodes }) => setProgress(`${name}: ${nodes.toLocaleString('en')} nodes`),
          cancelled: () => stopped.current,
        });
        found.push(...looked.found);
        whole &&= looked.whole;
      } catch (error) {
        failed.push(`${name}: ${error instanceof Error ? error.message : error}`);
      }
    }
    setProgress('');
    // What is free comes first.
    setAnswer({
      found: found.toSorted((a, b) => Number(a.offer.taken !== '') - Number(b.offer.taken !== '')),
      failed,
      whole: whole && !stopped.current,
      words,
    });
  }

  return (
    <section aria-label="Find its source" className="space-y-1.5 rounded border border-teal bg-paper p-2">
      <Field label="Words of what the device calls it">
        {(p) => (
          <Input
            {...p}
            value={words}
            onChange={(e) => setWords(e.target.value)}
            onKeyDown={(e) => {
              if (e.key !== 'Enter') return;
              e.preventDefault();
              void find().catch(complain);
            }}
          />
        )}
      </Field>
      <div className="flex flex-wrap gap-2">
        <Button disabled={disabled || progress !== '' || !words.trim()} onClick={() => void find().catch(complain)}>
          Find in all connections
        </Button>
        <Button kind="quiet" onClick={onClose}>
          Close
        </Button>
      </div>
      {progress && (
        <p role="status" className="flex items-center gap-2 text-sm">
          <span className="min-w-0 flex-1 truncate">{progress}</span>
          <Button
            onClick={() => {
              stopped.current = true;
            }}
          >
            Stop
          </Button>
        </p>
      )}
      {answer && (
        <>
          <p role="status" className="text-sm text-soft">
            {answer.found.length === 0
              ? `Nothing of “${answer.words}” was found.`
              : `${counted(answer.found.length, 'value')} found${answer.whole ? '' : '; there may be more'}.`}
          </p>
          {answer.failed.map((line) => (
            <p key={line} className="text-sm text-act4">
              {line}
            </p>
          ))}
          <ul className="max-h-64 overflow-auto">
            {answer.found.map((one) => (
              <li key={one.key} className="border-t border-line first:border-t-0">
                <button
                  type="button"
                  disabled={disabled}
                  className="w-full px-1 py-0.5 text-left hover:bg-band"
                  onClick={() => {
                    onPick(one.connection, one.offer.point as Partial<Point>);
                    onClose();
                  }}
                >
                  <span className="flex items-baseline gap-2">
                    <span className="min-w-0 flex-1 break-words">{one.name}</span>
                    <span className="figures shrink-0">
                      {one.offer.readings[0]?.text} {(one.offer.set as { unit?: string }).unit}
                    </span>
                  </span>
                  <span className="block text-sm break-words text-soft">
                    {[names.get(one.connection), ...one.path].join(' / ')}
                    {one.offer.taken && ` · is ${one.offer.taken.replaceAll('/', ' / ')}`}
                  </span>
                </button>
              </li>
            ))}
          </ul>
        </>
      )}
    </section>
  );
}
