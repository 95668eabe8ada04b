// The most urgent of some alarms, as pips.

import type { Alarm } from '../../api/queries';
import { mostUrgent, Pips } from '../../parts/pips';
import { counted } from '../../parts/text';

export function Worst({ alarms, count = false }: { alarms: readonly Alarm[] | undefined; count?: boolean }) {
  const urgent = mostUrgent(alarms ?? []);
  if (!urgent) return null;
  return (
    <span className="inline-flex shrink-0 items-center gap-1.5" data-rules={alarms?.map((a) => a.rule).join(' ')}>
      <Pips priority={urgent.priority} state={urgent.state} />
      {count && <span className="text-sm text-soft">{counted(alarms?.length ?? 0, 'alarm')}</span>}
    </span>
  );
}
