// Alarms: what stands now and what happened.

import clsx from 'clsx';
import { useState } from 'react';
import { feed, useNow } from '../../api/live';
import { acknowledge, useAlarms, useHands, useMay } from '../../api/queries';
import { pathOf, useTree } from '../../api/tree';
import { alarmsUnder, liesUnder } from '../../app/tree';
import { useGo, useView } from '../../app/view';
import { complain } from '../../parts/form';
import { type PipState, Pips } from '../../parts/pips';
import { lasting, moment } from '../../parts/text';
import { Button, DeskHead, DeskPart, Empty, Tick, Trouble } from '../../parts/ui';
import { Value } from '../../parts/value';
import { HandList } from './hand-list';
import { AlarmHistory } from './history';

export function Alarms() {
  const { part } = useView();
  const go = useGo();
  const tree = useTree();
  const { at } = useView();
  const place = at ? tree?.byId.get(at) : undefined;
  const alarms = useAlarms();
  const shown = at
    ? (alarmsUnder(tree?.byId ?? new Map(), alarms.data?.alarms ?? []).get(at) ?? [])
    : (alarms.data?.alarms ?? []);
  const waiting = shown.filter((a) => a.state !== 'acknowledged');
  const [busy, setBusy] = useState(false);
  const operator = useMay('operator');
  const [chosen, setChosen] = useState<ReadonlySet<string>>(new Set());
  const chosenWaiting = waiting.filter((a) => chosen.has(a.rule));
  const targets = chosenWaiting.length > 0 ? chosenWaiting : waiting;
  const elsewhere = (alarms.data?.alarms.length ?? 0) - shown.length;

  async function take(rules: string[]) {
    setBusy(true);
    try {
      await acknowledge(rules);
      setChosen(new Set());
    } catch (error) {
      complain(error);
    } finally {
      setBusy(false);
    }
  }

  const history = part === 'history';
  const byHand = part === 'by-hand';
  const allHands = useHands().data ?? [];
  const hands = at && tree ? allHands.filter((h) => liesUnder(tree.byId, h.place, at)) : allHands;
  const tab = (name: string, on: boolean, to: string | undefined) => (
    <DeskPart on={on} onClick={() => go({ part: to })}>
      {name}
    </DeskPart>
  );
  return (
    <>
      <DeskHead
        path={place ? pathOf(tree, place.id).replaceAll('/', ' / ') : 'Whole plant'}
        title="Alarms"
        note={`${shown.length} standing · ${waiting.length} to acknowledge${elsewhere > 0 ? ` · ${elsewhere} elsewhere in the plant` : ''}`}
      >
        {!history && !byHand && operator && (
          <Button disabled={busy || targets.length === 0} onClick={() => void take(targets.map((a) => a.rule))}>
            {chosenWaiting.length > 0 ? `Acknowledge ${chosenWaiting.length} chosen` : `Acknowledge all ${waiting.length} shown`}
          </Button>
        )}
      </DeskHead>
      <div className="mb-3 flex gap-2">
        {tab(`Standing ${shown.length}`, !history && !byHand, undefined)}
        {tab('History', history, 'history')}
        {tab(`Set by hand ${hands.length}`, byHand, 'by-hand')}
      </div>
      {history ? (
        <AlarmHistory key={at ?? ''} at={at} />
      ) : byHand ? (
        <HandList hands={hands} elsewhere={allHands.length - hands.length} />
      ) : (
        <>
          <Trouble error={alarms.error} />
          {alarms.data && shown.length === 0 && (
            <Empty title="No standing alarms">
              An alarm is listed here when a value is beyond one of its limits. Set limits on a tag: choose one on the board.
            </Empty>
          )}
          {shown.length > 0 && (
            <Standing
              alarms={shown}
              chosen={chosen}
              onChoose={(rule, on) => {
                const next = new Set(chosen);
                if (on) next.add(rule);
                else next.delete(rule);
                setChosen(next);
              }}
              onTake={operator ? (rule) => void take([rule]) : undefined}
              onOpen={(tag) => go({ tag })}
            />
          )}
        </>
      )}
    </>
  );
}

type Alarm = NonNullable<ReturnType<typeof useAlarms>['data']>['alarms'][number];

interface StandingProps {
  alarms: Alarm[];
  chosen: ReadonlySet<string>;
  onChoose: (rule: string, on: boolean) => void;
  onTake: ((rule: string) => void) | undefined;
  onOpen: (tag: string) => void;
}

function Standing({ alarms, chosen, onChoose, onTake, onOpen }: StandingProps) {
  const now = useNow();
  return (
    <table className="alarm-text w-full border border-line bg-raised text-left">
      <thead className="bg-band text-sm">
        <tr className="h-8">
          <th className="w-16 px-2" aria-label="Choose and priority" />
          <th className="w-20 font-semibold">Since</th>
          <th className="w-24 font-semibold">For</th>
          <th className="w-28 font-semibold">Place</th>
          <th className="font-semibold">What</th>
          <th className="w-28 pr-3 text-right font-semibold">Now</th>
          <th className="w-44 px-2 font-semibold">Acknowledged</th>
        </tr>
      </thead>
      <tbody>
        {alarms.map((a) => {
          const state = a.state as PipState;
          const waits = state !== 'acknowledged';
          return (
            <tr key={a.rule} className={clsx('h-9 border-t border-line hover:bg-band', waits && 'font-semibold')}>
              <td className="px-2">
                <span className="flex items-center gap-3">
                  <Tick
                    label={`Choose ${a.text}`}
                    hideLabel
                    checked={chosen.has(a.rule)}
                    disabled={!waits}
                    onChange={(on) => onChoose(a.rule, on)}
                  />
                  <Pips priority={a.priority} state={state} />
                </span>
              </td>
              <td className="figures">{moment(a.raised_at, now)}</td>
              <td>
                {a.returned_at
                  ? `back ${lasting(feed.time() - Date.parse(a.returned_at))}`
                  : lasting(now - Date.parse(a.raised_at))}
              </td>
              <td className="truncate pr-3">{a.place_name}</td>
              <td className="min-w-0 py-1 pr-3">
                {a.tag ? (
                  <button type="button" className="text-left hover:text-teal" onClick={() => a.tag && onOpen(a.tag)}>
                    {a.text}
                  </button>
                ) : (
                  // About Havrel itself: there is no tag to open.
                  a.text
                )}
                {a.action && <p className="text-sm font-normal text-soft">{a.action}</p>}
              </td>
              <td className="pr-3 text-right">{typeof a.no === 'number' && <Value no={a.no} set={a} own />}</td>
              <td className="px-2">
                {waits ? (
                  <Button className="h-6.5" disabled={!onTake} onClick={() => onTake?.(a.rule)}>
                    Acknowledge
                  </Button>
                ) : (
                  <span className="text-soft">{a.acknowledged_by}</span>
                )}
              </td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}
