// What can happen to an alarm, in words.

const EVENT_WORDS: Record<string, string> = {
  raised: 'came',
  returned: 'returned',
  acknowledged: 'acknowledged',
  withdrawn: 'withdrawn',
  reset: 'reset',
  shelved: 'shelved',
  unshelved: 'unshelved',
  suppressed: 'suppressed by design',
  unsuppressed: 'no longer suppressed',
  taken_out_of_service: 'taken out of service',
  put_in_service: 'put back in service',
};

/** What happened, in words: “came, first out”. */
export const eventWords = (e: { kind: string; first_out?: boolean }) =>
  `${EVENT_WORDS[e.kind] ?? e.kind}${e.first_out ? ', first out' : ''}`;
