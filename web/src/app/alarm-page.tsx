// The alarm of one rule, in the inspector: what it says, what to do, how it stands, what happened around it and before.

import { useQuery } from '@tanstack/react-query';
import { BellRing, ChartLine, Route, SlidersHorizontal, X } from 'lucide-react';
import { type ReactNode, useMemo } from 'react';
import { STATE_WORDS } from '../api/alarm-state';
import { http, take } from '../api/client';
import { useNow } from '../api/live';
import type { Item } from '../api/model';
import { type Alarm, useAlarms, useItems, useMay, useSuppressed } from '../api/queries';
import { usePast } from '../api/shown';
import { KeptValues } from '../parts/kept-values';
import { Pips } from '../parts/pips';
import { isLimit } from '../parts/rule-kinds';
import { lasting, moment, PRIORITY_WORDS, RULE_WORDS } from '../parts/text';
import { Trend } from '../parts/trend';
import { Button } from '../parts/ui';
import { Value } from '../parts/value';
import { AlarmActs, sinceWords, suppressionWords } from './alarm-acts';
import { eventWords } from './alarm-events';
import { AlarmNotes } from './alarm-notes';
import { MovedBefore } from './before';
import { callWords, Messages, takeCall, useCalls } from './calls';
import { useGo } from './view';

/** So much is shown before an alarm and after it, in seconds. */
const AROUND = 900;
/** So many of its earlier events are listed. */
const EARLIER = 30;

export function AlarmPage({ rule, onClose }: { rule: string; onClose: () => void }) {
  const standing = useAlarms().data?.alarms;
  const suppressed = useSuppressed().data?.alarms;
  const alarm = standing?.find((a) => a.rule === rule) ?? suppressed?.find((a) => a.rule === rule);
  const rules = useItems('rule', { only: rule });
  const item = rules.data?.items[0];
  const tags = useItems('tag', { only: item?.set.tag ?? '' }, Boolean(item));
  const tag = item && tags.data?.items.find((t) => t.id === item.set.tag);
  return (
    <aside
      aria-label="Inspector"
      className="relative row-start-3 w-80 overflow-auto border-l border-line bg-raised px-4 py-3.5"
      onKeyDown={(e) => e.key === 'Escape' && onClose()}
    >
      <div className="space-y-4">
        <header>
          <div className="flex items-start justify-between gap-2">
            <p className="min-w-0 truncate text-soft">
              {(alarm?.place_path ?? tag?.title.slice(0, -(tag.set.name.length + 1)) ?? '').replaceAll('/', ' / ')}
            </p>
            <Button kind="quiet" className="-mt-1 -mr-2 px-1.5" aria-label="Close inspector" onClick={onClose}>
              <X className="size-4" />
            </Button>
          </div>
          {(alarm || tag) && (
            <h2 className="text-[1.0625rem] font-semibold">{alarm?.text || alarm?.title || item?.title.split('/').at(-1)}</h2>
          )}
          {rules.data && !item && !alarm && <p className="text-soft">This alarm rule no longer exists.</p>}
        </header>
        {(item || alarm) && standing && (
          <>
            <StateLine alarm={alarm} priority={alarm?.priority ?? item?.set.priority ?? 1} />
            <AlarmActs key={rule} whose={{ rules: [rule] }} alarms={alarm ? [alarm] : []} draft={`alarm ${rule}`} />
            {tag && item && <Now tag={tag} rule={item} alarm={alarm} />}
            <Guidance cause={alarm?.cause ?? item?.set.cause ?? ''} action={alarm?.action ?? item?.set.action ?? ''} />
            {item && <Before rule={rule} />}
            <CalledFor rule={rule} />
            <Siblings of={alarm?.place ?? tag?.set.place} rule={rule} standing={standing} />
            {tag && <AlarmNotes key={tag.id} tag={tag.id} raised={alarm?.raised_at ? Date.parse(alarm.raised_at) : undefined} />}
            <Earlier rule={rule} />
          </>
        )}
      </div>
    </aside>
  );
}

function StateLine({ alarm, priority }: { alarm: Alarm | undefined; priority: number }) {
  const now = useNow();
  const state = alarm?.state ?? 'normal';
  const first = alarm?.suppressions.find((s) => s.until);
  return (
    <div className="flex items-start gap-2.5">
      <span className="mt-0.5">
        <Pips priority={priority} state={state} />
      </span>
      <div className="min-w-0">
        <p>
          <span className="font-semibold">{STATE_WORDS[state]}</span>, {PRIORITY_WORDS[priority]}
        </p>
        {alarm && alarm.suppressions.length > 0 ? (
          <>
            <p className="text-soft">
              {suppressionWords(alarm)}
              {first && (
                <>
                  {' '}
                  until <span className="figures">{moment(first.until, now)}</span>,{' '}
                  {lasting(Math.max(0, Date.parse(first.until) - now))} left
                </>
              )}
            </p>
            {alarm.suppressions.map((s) => (
              <p key={s.kind} className="text-soft">
                “{s.reason}”
              </p>
            ))}
            <p className="text-soft">The condition is {alarm.condition} now.</p>
          </>
        ) : (
          alarm && (
            <p className="text-soft">
              since <span className="figures">{moment(alarm.raised_at, now)}</span>, {sinceWords(alarm, now, lasting)}
              {alarm.acknowledged_by && `, acknowledged by ${alarm.acknowledged_by}`}
              {alarm.test && ', a test: nothing is wrong at the plant'}
              {alarm.first_out && ', first out of its group'}
              {alarm.came_after && `, after “${alarm.came_after}”`}
            </p>
          )
        )}
      </div>
    </div>
  );
}

function Now({ tag, rule, alarm }: { tag: Item<'tag'>; rule: Item<'rule'>; alarm: Alarm | undefined }) {
  const go = useGo();
  const now = useNow();
  const tags = useMemo(() => [tag], [tag]);
  const raised = alarm?.raised_at ? Date.parse(alarm.raised_at) : 0;
  // The present, where the alarm has come in what is shown of it; else what was around its coming.
  const end = raised > 0 && raised < now - AROUND * 1000 ? raised + (AROUND / 2) * 1000 : undefined;
  return (
    <section aria-label="Value" className="space-y-2">
      <p className="text-[1.25rem] font-semibold whitespace-nowrap">
        <Value no={tag.no} set={tag.set} own />
      </p>
      <RuleLine set={rule.set} unit={tag.set.unit} />
      {tag.recorded && (
        <figure>
          <Trend tags={tags} span={AROUND} end={end} height={132} plain />
          <figcaption className="text-sm text-soft">
            {end === undefined ? 'the last 15 minutes' : `around ${moment(raised, now)}, when it came`}
          </figcaption>
        </figure>
      )}
      <div className="flex flex-wrap gap-2">
        <Button onClick={() => go({ tags: tag.id, end: end === undefined ? undefined : end, span: 3600 }, '/explore')}>
          <ChartLine className="size-4" /> Trend
        </Button>
        <Button onClick={() => go({ follow: tag.id, alarm: undefined }, '/explore')}>
          <Route className="size-4" /> Follow
        </Button>
        <Button onClick={() => go({ tag: tag.id, alarm: undefined })}>
          <SlidersHorizontal className="size-4" /> Open tag
        </Button>
        <Button onClick={() => go({ rule: rule.id, part: 'rules', alarm: undefined }, '/alarms')}>
          <BellRing className="size-4" /> Open rule
        </Button>
      </div>
    </section>
  );
}

/** The last call for this alarm, while its alarm stands or the call goes on. */
function CalledFor({ rule }: { rule: string }) {
  const now = useNow();
  const operator = useMay('operator');
  const call = useCalls({ rule, limit: 1 }).data?.[0];
  const called = call?.alarms.find((alarm) => alarm.rule === rule);
  if (!call || (call.how && (!called || called.gone))) return null;
  return (
    <section aria-label="Call-out">
      <h3 className="mb-1 font-semibold">Call-out “{call.plan_name}”</h3>
      <p className={call.how ? '' : 'font-semibold'}>{callWords(call)}</p>
      <Messages call={call} now={now} />
      {!call.how && operator && (
        <Button kind="main" className="mt-1" onClick={() => void takeCall(call)}>
          I take it
        </Button>
      )}
    </section>
  );
}

/** What the rule looks for, in short. */
function RuleLine({ set, unit }: { set: Item<'rule'>['set']; unit: string }) {
  const { kind, level, deadband } = set;
  const measured = kind === 'rate' ? `${unit}/${PER_WORDS[set.per]}` : unit;
  const band = set.deadband_in === 'range' ? '% of range' : measured;
  return (
    <p className="text-soft">
      {isLimit(kind) && 'limit '}
      {RULE_WORDS[kind]} {level !== null && <span className="figures">{level}</span>}
      {level !== null && measured && ` ${measured}`}
      {set.level_formula && 'from a formula'}
      {deadband > 0 && (
        <>
          , deadband <span className="figures">{deadband}</span> {band}
        </>
      )}
    </p>
  );
}

const PER_WORDS = { second: 's', minute: 'min', hour: 'h' } as const;

function Guidance({ cause, action }: { cause: string; action: string }) {
  const line = (name: string, text: string) => (
    <>
      <dt className="text-sm text-soft">{name}</dt>
      <dd>{text || <span className="text-soft">nothing entered</span>}</dd>
    </>
  );
  return (
    <dl className="border-t border-line pt-3">
      {line('What to do', action)}
      <div className="h-2" />
      {line('Likely cause', cause)}
    </dl>
  );
}

function Siblings({ of, rule, standing }: { of: string | null | undefined; rule: string; standing: readonly Alarm[] }) {
  const go = useGo();
  const others = of ? standing.filter((a) => a.place === of && a.rule !== rule) : [];
  if (others.length === 0) return null;
  return (
    <Part title="Also on this equipment">
      <ul>
        {others.map((a) => (
          <li key={a.rule} className="flex items-center gap-2 py-0.5">
            <Pips priority={a.priority} state={a.state} />
            <button type="button" className="min-w-0 truncate text-left hover:text-teal" onClick={() => go({ alarm: a.rule })}>
              {a.text}
            </button>
          </li>
        ))}
      </ul>
    </Part>
  );
}

/** The last events of an alarm; of what is over nothing is asked. */
function useEvents(rule: string) {
  const isPast = usePast();
  // Under the key of alarms, so that it is asked for anew when one does something.
  const found = useQuery({
    queryKey: ['alarms', 'of', rule],
    queryFn: () => take(http.GET('/api/alarms/events', { params: { query: { rule, limit: EARLIER } } })),
    enabled: !isPast,
  });
  return { isPast, found };
}

/** When the alarm came last. */
function Before({ rule }: { rule: string }) {
  const came = useEvents(rule).found.data?.find((e) => e.kind === 'raised')?.occurred_at;
  return came ? <MovedBefore key={came} rule={rule} at={came} /> : null;
}

function Earlier({ rule }: { rule: string }) {
  const { isPast, found } = useEvents(rule);
  const now = useNow();
  if (isPast || !found.data) return null;
  return (
    <Part title="What happened">
      {found.data.length === 0 && <p className="text-soft">This alarm has never come.</p>}
      <ol className="space-y-1">
        {found.data.map((e) => (
          <li key={e.id} className="grid grid-cols-[5.25rem_1fr] gap-x-2">
            <span className="figures text-sm whitespace-normal text-soft">{moment(e.occurred_at, now)}</span>
            <span className="min-w-0">
              {eventWords(e)}
              {e.actor && <span className="text-soft"> by {e.actor}</span>}
              {e.comment && <span className="block">“{e.comment}”</span>}
              {e.values.length > 0 && <KeptValues values={e.values} />}
            </span>
          </li>
        ))}
      </ol>
      {found.data.length === EARLIER && <p className="text-sm text-soft">Older ones are in the history of the alarms.</p>}
    </Part>
  );
}

function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section aria-label={title} className="border-t border-line pt-3">
      <h3 className="mb-2 font-semibold">{title}</h3>
      {children}
    </section>
  );
}
