// The priorities to choose from, the most urgent first.

import { PRIORITY_WORDS } from './text';

export function PriorityOptions() {
  return [4, 3, 2, 1, 0].map((priority) => (
    <option key={priority} value={priority}>{`${priority} · ${PRIORITY_WORDS[priority]}`}</option>
  ));
}
