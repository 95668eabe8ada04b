// The kinds of alarm rules: in which order they are offered, and what belongs to each.

import type { RuleKind } from '../api/model';
import { RULE_WORDS } from './text';

export const RULE_KINDS = Object.keys(RULE_WORDS) as RuleKind[];

/** Whether it is one of the four limits of a value. */
export const isLimit = (kind: string) => /^(high|low)/.test(kind);

/** Whether a number is compared with a level. */
export const hasLevel = (kind: string) => isLimit(kind) || kind === 'deviation' || kind === 'rate';

/** Whether a deadband means something for it. */
export const hasDeadband = (kind: string) => hasLevel(kind) || kind === 'no_change';
