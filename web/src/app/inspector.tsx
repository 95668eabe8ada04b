// The inspector: everything about one tag, read and changed in place.

import clsx from 'clsx';
import { ChartLine, Route, X } from 'lucide-react';
import { type ReactNode, Suspense, useMemo } from 'react';
import { STATE_WORDS } from '../api/alarm-state';
import { useValue } from '../api/live';
import type { ConnectionSet, Item } from '../api/model';
import { commit, useAlarms, useItems, useMay, useSuppressed } from '../api/queries';
import { complain } from '../parts/form';
import { Pips } from '../parts/pips';
import { useReading } from '../parts/reading';
import { isLimit } from '../parts/rule-kinds';
import { clock, PRIORITY_WORDS, RULE_WORDS } from '../parts/text';
import { Trend } from '../parts/trend';
import { Button, Choice, Tick } from '../parts/ui';
import { UnitMenu } from '../parts/unit-menu';
import { QualityMark } from '../parts/value';
import { WriteTo } from '../parts/write';
import { ByHand } from './by-hand';
import { late } from './late';
import { LimitSheet } from './limit-sheet';
import { TagSettings } from './tag-settings';
import { Uses } from './uses';
import { useGo } from './view';

// What few who open a tag want is loaded when it is wanted.
const LoopChecks = late(async () => (await import('./loop-check')).LoopChecks).component;

export function TagInspector({ id, onClose }: { id: string; onClose: () => void }) {
  const tags = useItems('tag', { only: id });
  const rules = useItems('rule', { tag: id });
  const connections = useItems('connection');
  const tag = tags.data?.items.find((t) => t.id === id);
  return (
    <aside
      aria-label="Inspector"
      className="relative row-start-3 w-80 overflow-auto border-l border-line bg-raised px-4 py-3.5"
      onKeyDown={(e) => e.key === 'Escape' && onClose()}
    >
      {tag && rules.data && (
        <Inspected
          tag={tag}
          rules={rules.data.items}
          seen={Math.min(tags.data?.revision ?? 0, rules.data.revision)}
          connection={connections.data?.items.find((c) => c.id === tag.set.connection)?.set}
          onClose={onClose}
        />
      )}
      {tags.data && !tag && (
        <div className="flex items-start justify-between">
          <p className="text-soft">This tag no longer exists.</p>
          <Button kind="quiet" aria-label="Close inspector" onClick={onClose}>
            <X className="size-4" />
          </Button>
        </div>
      )}
    </aside>
  );
}

interface Props {
  tag: Item<'tag'>;
  rules: Item<'rule'>[];
  seen: number;
  connection: ConnectionSet | undefined;
  onClose: () => void;
}

function Inspected({ tag, rules, seen, connection, onClose }: Props) {
  const go = useGo();
  const value = useValue(tag.no);
  const reading = useReading(tag.set);
  const engineer = useMay('engineer');
  const place = tag.title.slice(0, tag.title.length - tag.set.name.length - 1);
  const shown = useMemo(() => [tag], [tag]);
  return (
    <div className="space-y-4">
      <header>
        <div className="flex items-start justify-between gap-2">
          <p className="truncate text-soft">{place.replaceAll('/', ' / ')}</p>
          <Button kind="quiet" className="-mt-1 -mr-2 px-1.5" aria-label="Close inspector" onClick={onClose}>
            <X className="size-4" />
          </Button>
        </div>
        <h2 className="text-[1.0625rem] font-semibold">{tag.set.name}</h2>
        <div className="mt-1 flex items-baseline justify-between gap-2">
          <p className="flex min-w-0 items-baseline gap-1.5">
            {value && <QualityMark value={value} />}
            <span
              className={clsx(
                'figures leading-8 font-semibold',
                (value ? reading.print(value.value) : '').length > 12 ? 'text-[1.1rem] break-all' : 'text-[1.75rem]',
                value?.quality === 'bad' && 'text-soft',
              )}
            >
              {value ? reading.print(value.value) : '…'}
            </span>
            <UnitMenu set={tag.set} />
          </p>
          <p className="shrink-0 text-right text-sm text-soft">
            {value?.time ? <span className="figures text-sm">{clock(value.time)}</span> : 'no value yet'}
          </p>
        </div>
        {reading.converted && typeof value?.value === 'number' && (
          <p className="text-sm text-soft">
            <span className="figures text-sm">{value.value.toFixed(tag.set.decimals)}</span> {tag.set.unit} as it is configured
          </p>
        )}
        {value && value.quality !== 'good' && <p className="text-sm text-act4">{value.reason}</p>}
      </header>
      {tag.recorded && <Trend tags={shown} span={900} height={132} plain />}
      <div className="flex flex-wrap gap-2">
        <Button onClick={() => go({ tags: tag.id, end: undefined }, '/explore')}>
          <ChartLine className="size-4" /> Trend
        </Button>
        <Button onClick={() => go({ follow: tag.id, tag: undefined }, '/explore')}>
          <Route className="size-4" /> Follow
        </Button>
        <ByHand tag={tag} />
      </div>
      {tag.set.writable && <WriteTo tag={tag} connection={connection} />}
      <Recording tag={tag} seen={seen} disabled={!engineer} />
      <Part title="Limits and alarms">
        <AlarmLines rules={rules} />
        <LimitSheet key={rules.map((r) => r.revision).join()} tag={tag} rules={rules} seen={seen} disabled={!engineer} />
        <OtherRules tag={tag} rules={rules} disabled={!engineer} />
      </Part>
      <Part title="Loop check">
        <Suspense>
          <LoopChecks key={tag.id} tag={tag} />
        </Suspense>
      </Part>
      <Part title="Where used">
        <Uses kind="tag" id={tag.id} />
      </Part>
      <Part title="Settings">
        <TagSettings tag={tag} seen={seen} disabled={!engineer} />
      </Part>
    </div>
  );
}

/** The alarms of the tag's rules that are not normal, and the way to each rule. */
function AlarmLines({ rules }: { rules: Item<'rule'>[] }) {
  const go = useGo();
  const standing = useAlarms().data?.alarms ?? [];
  const suppressed = useSuppressed().data?.alarms ?? [];
  const of = (id: string) => [...standing, ...suppressed].find((a) => a.rule === id);
  const enabled = rules.filter((r) => r.set.enabled);
  if (enabled.length === 0) return null;
  return (
    <ul aria-label="Alarms" className="mb-2">
      {enabled.map(({ id, set }) => {
        const state = of(id)?.state ?? 'normal';
        return (
          <li key={id} className="flex items-center gap-2 py-0.5">
            <Pips priority={set.priority} state={state} />
            <button
              type="button"
              className="min-w-0 flex-1 truncate text-left hover:text-teal"
              onClick={() => go({ alarm: id, tag: undefined })}
            >
              {set.name || RULE_WORDS[set.kind]}
            </button>
            <span className={clsx('shrink-0', state === 'normal' && 'text-soft')}>
              {set.priority > 0 ? STATE_WORDS[state] : PRIORITY_WORDS[0]}
            </span>
          </li>
        );
      })}
    </ul>
  );
}

/** Rules that are not plain limits, and the way to further ones. */
function OtherRules({ tag, rules, disabled }: { tag: Item<'tag'>; rules: Item<'rule'>[]; disabled: boolean }) {
  const go = useGo();
  const open = (rule: string) => go({ rule, part: 'rules' }, '/alarms');
  return (
    <>
      <ul aria-label="Other alarm rules" className="mt-2">
        {rules
          .filter(({ set }) => set.name || !isLimit(set.kind) || set.level_formula)
          .map(({ id, set }) => (
            <li key={id} className="flex h-6.5 items-center gap-2 border-t border-line">
              <button type="button" className="min-w-0 flex-1 truncate text-left hover:text-teal" onClick={() => open(id)}>
                {set.name || RULE_WORDS[set.kind]}
              </button>
              {set.name && <span className="shrink-0 text-soft">{RULE_WORDS[set.kind]}</span>}
              <span className="shrink-0 text-sm text-soft">{set.enabled ? PRIORITY_WORDS[set.priority] : 'off'}</span>
            </li>
          ))}
      </ul>
      <Button className="mt-2" disabled={disabled} onClick={() => open(`new:${tag.id}`)}>
        Add alarm rule…
      </Button>
    </>
  );
}

function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="border-t border-line pt-3">
      <h3 className="mb-2 font-semibold">{title}</h3>
      {children}
    </section>
  );
}

function Recording({ tag, seen, disabled }: { tag: Item<'tag'>; seen: number; disabled: boolean }) {
  const { record, record_mode, record_deadband, unit } = tag.set;
  const set = (change: Partial<Item<'tag'>['set']>, why: string) => {
    commit(why, seen, [{ op: 'patch', kind: 'tag', id: tag.id, set: change }]).catch(complain);
  };
  return (
    <div className="flex flex-wrap items-center gap-x-3 gap-y-1">
      <Tick
        label="Record"
        checked={record}
        disabled={disabled}
        onChange={(on) => set({ record: on }, `${on ? 'Recorded' : 'Stopped recording'} ${tag.title}`)}
      />
      {record && (
        <>
          <Choice
            aria-label="When to record"
            className="w-30"
            disabled={disabled}
            value={record_mode}
            onChange={(e) => set({ record_mode: e.target.value as RecordMode }, `Changed when ${tag.title} is recorded`)}
          >
            <option value="on_change">on change</option>
            <option value="each_poll">each value</option>
          </Choice>
          {record_mode === 'on_change' && record_deadband > 0 && (
            <span className="text-sm text-soft">
              beyond <span className="figures">{record_deadband}</span> {unit}
            </span>
          )}
        </>
      )}
    </div>
  );
}

type RecordMode = Item<'tag'>['set']['record_mode'];
