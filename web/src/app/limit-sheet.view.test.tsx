import { cleanup, render, screen } from '@testing-library/react';
import userEvent from '@testing-library/user-event';
import { afterEach, expect, it, vi } from 'vitest';
import { Refused } from '../api/client';
import type { Item, RuleSet, TagSet } from '../api/model';
import { commit } from '../api/queries';
import { LimitSheet } from './limit-sheet';

vi.mock('../api/queries', () => ({ commit: vi.fn() }));
afterEach(cleanup);

const set = { name: 'Level', unit: '%', decimals: 1 } as TagSet;
const tag: Item<'tag'> = { id: 't', no: 1, revision: 1, title: 'EX-1/Level', source: '', holds: '', recorded: false, set };
const rule = (kind: RuleSet['kind'], level: number): Item<'rule'> => ({
  id: kind,
  no: 0,
  revision: 1,
  title: '',
  source: '',
  holds: '',
  recorded: false,
  set: {
    tag: 't',
    class_rule: null,
    name: '',
    kind,
    level,
    priority: 2,
    deadband: 0,
    level_formula: null,
    setpoint: null,
    side: 'either',
    window_s: 60,
    per: 'minute',
    states: [],
    when: null,
    deadband_in: 'unit',
    only_while: null,
    uncertain: 'good',
    on_delay_s: 0,
    off_delay_s: 0,
    acknowledge: true,
    latch: false,
    first_out: '',
    if_ignored: '',
    consequences: { safety: 0, environment: 0, production: 0, quality: 0, equipment: 0 },
    respond_min: null,
    overruled: '',
    checked: null,
    enabled: true,
    cause: '',
    action: '',
  },
});

it('sends only what changed, with the revision that was seen', async () => {
  vi.mocked(commit).mockResolvedValue(8);
  render(<LimitSheet tag={tag} rules={[rule('high', 80), rule('low', 5)]} seen={7} disabled={false} />);
  const user = userEvent.setup();
  const save = screen.getByRole('button', { name: 'Save limits' });
  expect(save).toHaveProperty('disabled', true);
  await user.clear(screen.getByLabelText('Limit high'));
  await user.type(screen.getByLabelText('Limit high'), '82.5');
  await user.clear(screen.getByLabelText('Limit low'));
  await user.click(save);
  expect(commit).toHaveBeenCalledWith('Set limits of EX-1/Level', 7, [
    { op: 'patch', kind: 'rule', id: 'high', set: { level: 82.5 } },
    { op: 'delete', kind: 'rule', id: 'low' },
  ]);
});

it('takes in what somebody else changes, and shows both where it was typed here too', async () => {
  const { rerender } = render(<LimitSheet tag={tag} rules={[rule('high', 80), rule('low', 5)]} seen={7} disabled={false} />);
  const user = userEvent.setup();
  await user.clear(screen.getByLabelText('Limit high'));
  await user.type(screen.getByLabelText('Limit high'), '82');
  rerender(<LimitSheet tag={tag} rules={[rule('high', 85), rule('low', 6)]} seen={8} disabled={false} />);
  expect(screen.getByLabelText('Limit low')).toHaveProperty('value', '6');
  expect(screen.getByLabelText('Limit high')).toHaveProperty('value', '82');
  expect(screen.getByText(/Somebody else has changed limit high meanwhile/)).toBeTruthy();
  await user.click(screen.getByRole('button', { name: 'Use theirs' }));
  expect(screen.getByLabelText('Limit high')).toHaveProperty('value', '85');
  expect(screen.getByRole('button', { name: 'Save limits' })).toHaveProperty('disabled', true);
});

it('tells what is wrong at the row it concerns and keeps what was typed', async () => {
  // Of two edits the second is refused: the first is the high limit, the second the low one.
  vi.mocked(commit).mockRejectedValue(
    new Refused(422, 'x', [{ edit: 1, field: 'deadband', message: 'This must lie between 0 and 5.' }]),
  );
  render(<LimitSheet tag={tag} rules={[]} seen={7} disabled={false} />);
  const user = userEvent.setup();
  await user.type(screen.getByLabelText('Limit high'), '80');
  await user.type(screen.getByLabelText('Limit low'), '5');
  await user.click(screen.getByRole('button', { name: 'Save limits' }));
  expect((await screen.findByRole('alert')).textContent).toBe('Deadband: This must lie between 0 and 5.');
  expect(screen.getByLabelText('Limit low').getAttribute('aria-invalid')).toBe('true');
  expect(screen.getByLabelText('Limit high').getAttribute('aria-invalid')).toBe('false');
  expect(screen.getByLabelText('Limit low')).toHaveProperty('value', '5');
});

it('changes nothing for whoever may not', () => {
  render(<LimitSheet tag={tag} rules={[rule('high', 80)]} seen={7} disabled />);
  expect(screen.getByLabelText('Limit high')).toHaveProperty('disabled', true);
  expect(screen.getByLabelText('Limit high')).toHaveProperty('value', '80');
});

it('leaves rules with names of their own, and limits from formulas, alone', async () => {
  vi.mocked(commit).mockReset().mockResolvedValue(8);
  const night = { ...rule('high', 70), id: 'night' };
  night.set = { ...night.set, name: 'At night' };
  const low = rule('low', 10);
  low.set = { ...low.set, level: null, level_formula: { text: 'at("x")', mixed: 'convert' } };
  render(<LimitSheet tag={{ ...tag, id: 'n' }} rules={[night, rule('high', 80), low]} seen={7} disabled={false} />);
  expect(screen.queryByLabelText('Limit low')).toBeNull();
  expect(screen.getByLabelText('Limit high')).toHaveProperty('value', '80');
  const user = userEvent.setup();
  await user.clear(screen.getByLabelText('Limit high'));
  await user.click(screen.getByRole('button', { name: 'Save limits' }));
  expect(commit).toHaveBeenCalledWith('Set limits of EX-1/Level', 7, [{ op: 'delete', kind: 'rule', id: 'high' }]);
});
