import { expect, test } from 'vitest';
import type { Item } from '../../../api/model';
import { homeOf } from './edge-nodes';

const tag = (title: string, point: object) => ({ title, set: { point } }) as unknown as Item<'tag'>;

test('a device lies beside its siblings, where the place of one is called after it', () => {
  const tags = [
    tag('Works/Level', { group: 'W', node: 'N' }),
    tag('Works/Other/Pump/Speed', { group: 'W', node: 'M', device: 'Pump' }),
    tag('Works/Shore/Somewhere/pH', { group: 'W', node: 'N', device: 'Outlet' }),
    tag('Works/Shore/Basin/Inner/Level', { group: 'W', node: 'N', device: 'Basin' }),
  ];
  expect(homeOf(tags, { group: 'W', node: 'N' })).toBe('Works/Shore');
  expect(homeOf(tags, { group: 'W', node: 'M' })).toBe('Works/Other');
  expect(homeOf(tags, { group: 'V', node: 'N' })).toBeNull();
  // A device at the top of the plant has nothing above it.
  expect(homeOf([tag('Basin/Level', { group: 'W', node: 'N', device: 'Basin' })], { group: 'W', node: 'N' })).toBeNull();
});
