// What can happen to an alarm, in words.

export const EVENT_WORDS: Record<string, string> = {
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
