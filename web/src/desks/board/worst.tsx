// The most urgent of some alarms, as pips.

import type { Schemas } from '../../api/client';
import { mostUrgent, type PipState, Pips } from '../../parts/pips';
import { counted } from '../../parts/text';

export type Standing = Schemas['AlarmList']['alarms'][number];

export function Worst({ alarms, count = false }: { alarms: readonly Standing[] | undefined; count?: boolean }) {
  const urgent = mostUrgent((alarms ?? []).map((a) => ({ ...a, state: a.state as PipState })));
  if (!urgent) return null;
  return (
    <span className="inline-flex shrink-0 items-center gap-1.5" data-rules={alarms?.map((a) => a.rule).join(' ')}>
      <Pips priority={urgent.priority} state={urgent.state} />
      {count && <span className="text-sm text-soft">{counted(alarms?.length ?? 0, 'alarm')}</span>}
    </span>
  );
}
