// @vitest-environment jsdom
import { expect, it } from 'vitest';
import { alarmSize, setAlarmSize, startAlarmText } from './alarm-text';

it('is kept in this browser, and what it does not know is the usual size', () => {
  localStorage.setItem('havrel.alarm-text', 'huge');
  startAlarmText();
  expect([alarmSize(), document.documentElement.dataset.alarmText]).toEqual(['usual', 'usual']);
  setAlarmSize('largest');
  expect([alarmSize(), document.documentElement.dataset.alarmText]).toEqual(['largest', 'largest']);
  setAlarmSize('usual');
  expect(localStorage.getItem('havrel.alarm-text')).toBeNull();
});
