// Alarms: what stands now, what is kept from the operator, and what happened.

import { useMemo } from 'react';
import { useAlarms, useHands, useSuppressed } from '../../api/queries';
import { pathOf, useTree } from '../../api/tree';
import { alarmsUnder, liesUnder } from '../../app/tree';
import { useGo, useView } from '../../app/view';
import { DeskHead, DeskPart, Trouble } from '../../parts/ui';
import { CallOut } from './calls/calls';
import { HandList } from './hand-list';
import { AlarmHistory } from './history';
import { Performance } from './performance';
import { Review } from './review';
import { Rules } from './rules';
import { Standing } from './standing';
import { SuppressedList } from './suppressed';

/** A filter of one part is none of another. */
const CLEARED = {
  finding: undefined,
  words: undefined,
  priorities: undefined,
  state: undefined,
  age: undefined,
  of: undefined,
  span: undefined,
  end: undefined,
};

export function Alarms() {
  const { at, part } = useView();
  const go = useGo();
  const tree = useTree();
  const place = at ? tree?.byId.get(at) : undefined;
  const alarms = useAlarms();
  const all = useMemo(() => alarms.data?.alarms ?? [], [alarms.data]);
  const here = useMemo(() => (at ? (alarmsUnder(tree?.byId ?? new Map(), all).get(at) ?? []) : all), [at, tree, all]);
  const allSuppressed = useSuppressed().data?.alarms ?? [];
  const suppressed = at && tree ? allSuppressed.filter((a) => a.place && liesUnder(tree.byId, a.place, at)) : allSuppressed;
  const allHands = useHands().data ?? [];
  const hands = at && tree ? allHands.filter((h) => liesUnder(tree.byId, h.place, at)) : allHands;
  const tab = (name: string, to: string | undefined) => (
    <DeskPart on={part === to} onClick={() => go({ part: to, ...CLEARED })}>
      {name}
    </DeskPart>
  );
  return (
    <div className="flex h-full flex-col">
      <DeskHead
        path={place ? pathOf(tree, place.id).replaceAll('/', ' / ') : 'Whole plant'}
        title="Alarms"
        note={all.length > here.length ? `${all.length - here.length} more elsewhere in the plant` : ''}
      >
        {tab(`Standing ${here.length}`, undefined)}
        {tab(`Suppressed ${suppressed.length}`, 'suppressed')}
        {tab('History', 'history')}
        {tab('Performance', 'performance')}
        {tab('Rules', 'rules')}
        {tab('Review', 'review')}
        {tab('Call-out', 'calls')}
        {tab(`Set by hand ${hands.length}`, 'by-hand')}
      </DeskHead>
      {part === 'history' ? (
        <AlarmHistory key={at ?? ''} at={at} />
      ) : part === 'performance' ? (
        <Performance at={at} />
      ) : part === 'by-hand' ? (
        <HandList hands={hands} elsewhere={allHands.length - hands.length} />
      ) : part === 'calls' ? (
        <CallOut />
      ) : part === 'review' ? (
        <Review at={at} />
      ) : part === 'rules' ? (
        <Rules at={at} />
      ) : part === 'suppressed' ? (
        <SuppressedList alarms={suppressed} elsewhere={allSuppressed.length - suppressed.length} />
      ) : (
        <>
          <Trouble error={alarms.error} />
          {alarms.data && <Standing key={at ?? ''} at={at} here={here} all={all} />}
        </>
      )}
    </div>
  );
}
