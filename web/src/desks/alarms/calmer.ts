// Settings that would calm a rule, in words.

import type { Schemas } from '../../api/client';

export function calmerWords(calmer: Schemas['CalmerView'], unit: string): string {
  const parts = [
    calmer.deadband > 0 && `deadband ${calmer.deadband} ${calmer.deadband_in === 'range' ? '% of range' : unit}`.trim(),
    calmer.on_delay_s > 0 && `on-delay ${calmer.on_delay_s} s`,
    calmer.off_delay_s > 0 && `off-delay ${calmer.off_delay_s} s`,
  ];
  return parts.filter(Boolean).join(', ');
}
