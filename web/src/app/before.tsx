// What moved before an alarm: values near it that behaved unlike their usual selves, other alarms, and what people did.

import { useQuery } from '@tanstack/react-query';
import { useMemo, useState } from 'react';
import { http, type Schemas, take } from '../api/client';
import { useTags } from '../api/queries';
import { lasting, moment } from '../parts/text';
import { Trend } from '../parts/trend';
import { Button, Trouble } from '../parts/ui';
import { useGo } from './view';

type Before = Schemas['BeforeView'];

/** The trends show so many seconds; the alarm stands at three quarters. */
const SHOWN = 900;
/** So many values are drawn. */
const DRAWN = 3;

const HOW: Record<string, string> = {
  high: 'higher than usual',
  low: 'lower than usual',
  rose: 'rose faster than usual',
  fell: 'fell faster than usual',
  restless: 'more restless than usual',
  lost: 'no good value any more',
};

export function MovedBefore({ rule, at }: { rule: string; at: string }) {
  const [open, setOpen] = useState(false);
  const asked = useQuery({
    queryKey: ['before', rule, at],
    queryFn: () => take(http.GET('/api/alarms/before', { params: { query: { rule, at } } })),
    enabled: open,
    staleTime: Number.POSITIVE_INFINITY,
  });
  return (
    <section aria-label="What moved before it">
      <Button aria-expanded={open} onClick={() => setOpen(!open)}>
        What moved before it?
      </Button>
      {open && (
        <div className="mt-2">
          <Trouble error={asked.error} />
          {asked.isFetching && <p className="text-soft">Looking at the hours before …</p>}
          {asked.data && <Found before={asked.data} />}
        </div>
      )}
    </section>
  );
}

function Found({ before }: { before: Before }) {
  const at = Date.parse(before.at);
  const go = useGo();
  const drawn = useTags(useMemo(() => before.moved.slice(0, DRAWN).map((one) => one.tag), [before]));
  const earlier = (time: string) => `${lasting(Math.max(0, at - Date.parse(time)))} before`;
  return (
    <>
      {before.moved.length === 0 && before.alarms.length === 0 && before.done.length === 0 && (
        <p>
          {before.looked_at === 0
            ? 'Nothing near it is recorded.'
            : `Of ${before.looked_at} recorded values near it none was unlike its usual self in the ten minutes before.`}
        </p>
      )}
      {before.moved.length > 0 && (
        <ol aria-label="Values that moved">
          {before.moved.map((one) => (
            <li key={one.tag} className="border-t border-line py-1">
              <button type="button" className="text-left hover:text-teal" onClick={() => go({ tag: one.tag, alarm: undefined })}>
                <span className="font-semibold">{one.title.replaceAll('/', ' / ')}</span>
              </button>
              <span className="block text-soft">
                {HOW[one.how] ?? one.how}, from {earlier(one.since)}
              </span>
            </li>
          ))}
        </ol>
      )}
      {drawn.length > 0 && (
        <figure className="mt-1">
          <Trend tags={drawn} span={SHOWN} end={at + (SHOWN / 4) * 1000} height={150} plain />
          <figcaption className="text-sm text-soft">
            the first {drawn.length} around <span className="figures">{moment(at, at)}</span>
          </figcaption>
          <Button
            className="mt-1"
            onClick={() =>
              go(
                { tags: before.moved.map((one) => one.tag).join(','), end: at + 300_000, span: 1800, alarm: undefined },
                '/explore',
              )
            }
          >
            All of them in a trend
          </Button>
        </figure>
      )}
      <Lines
        title="Other alarms near it"
        lines={before.alarms.map((e) => ({ key: String(e.id), at: e.occurred_at, text: e.text }))}
        say={earlier}
      />
      <Lines
        title="What people did"
        lines={before.done.map((d, i) => ({ key: `${i} ${d.at}`, at: d.at, text: `${d.actor}: ${d.title}` }))}
        say={earlier}
      />
      <p className="mt-1 text-sm text-soft">
        A hint from history, not a cause: each value is held against its own last three hours.
        {before.left_out > 0 && ` ${before.left_out} recorded values farther away were not looked at.`}
      </p>
    </>
  );
}

interface LinesProps {
  title: string;
  lines: { key: string; at: string; text: string }[];
  say: (at: string) => string;
}

function Lines({ title, lines, say }: LinesProps) {
  if (lines.length === 0) return null;
  return (
    <>
      <h4 className="mt-2 font-semibold">{title}</h4>
      <ul aria-label={title}>
        {lines.map((line) => (
          <li key={line.key} className="border-t border-line py-0.5">
            {line.text} <span className="text-soft">{say(line.at)}</span>
          </li>
        ))}
      </ul>
    </>
  );
}
