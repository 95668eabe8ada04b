// The states of an alarm, named as in ISA-18.2-2016, and what they mean for whoever looks.

export type AlarmState =
  | 'normal'
  | 'unacknowledged'
  | 'acknowledged'
  | 'returned_unacknowledged'
  | 'latched_unacknowledged'
  | 'latched_acknowledged'
  | 'shelved'
  | 'suppressed_by_design'
  | 'out_of_service';

export const STATE_WORDS: Record<AlarmState, string> = {
  normal: 'normal',
  unacknowledged: 'not acknowledged',
  acknowledged: 'acknowledged',
  returned_unacknowledged: 'returned, not acknowledged',
  latched_unacknowledged: 'latched, not acknowledged',
  latched_acknowledged: 'latched, acknowledged',
  shelved: 'shelved',
  suppressed_by_design: 'suppressed by design',
  out_of_service: 'out of service',
};

/** Whether somebody has to acknowledge it. */
export const waits = (state: AlarmState) => state.endsWith('unacknowledged');

/** Whether it is kept from the operator. */
export const isSuppressed = (state: AlarmState) =>
  state === 'shelved' || state === 'suppressed_by_design' || state === 'out_of_service';

/** Whether somebody has to reset it. */
export const isLatched = (state: AlarmState) => state.startsWith('latched');
