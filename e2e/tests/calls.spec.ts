// Call-out: a plan is set, a test alarm and a real one reach people, and somebody takes the call by the link in the message.

import { expect, type Page, test } from '@playwright/test';
import { accessibility } from '../accessibility';
import { enter, NAME, type Server, start } from '../server';

test.describe.configure({ mode: 'serial' });

let server: Server;
let page: Page;
const thrown: string[] = [];

test.beforeAll(async ({ browser }) => {
  server = await start(['--speed', '1', '--past', '0']);
  page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();
  page.on('pageerror', (error) => thrown.push(error.stack ?? error.message));
  await enter(page, server);
});

test.afterAll(async () => {
  await page.context().close();
  await server.stop();
  expect(thrown).toEqual([]);
});

interface Received {
  by: string;
  to: string;
  subject: string;
  text: string;
}

/** What the mail server and the hook received, the newest first. */
const received = async () => (await (await page.request.get(`${server.received}/received`)).json()) as Received[];
const plans = () => page.getByRole('region', { name: 'Call-out plans' });
const calls = () => page.getByRole('region', { name: 'Calls' });
const call = (n = 0) => calls().getByRole('listitem').nth(n);
const step = (n: number) => page.getByRole('listitem', { name: `Step ${n}`, exact: true });
const form = (name: string) => page.getByRole('form', { name, exact: true });

test('somebody says where they are told, and when', async () => {
  await page.goto(`${server.url}/system`);
  const own = form('Where you are told of alarms');
  await own.getByLabel('E-mail for call-out').fill('nobody');
  await own.getByRole('button', { name: 'Save' }).click();
  await expect(own).toContainText('Write an address like control@works.example');
  await own.getByLabel('E-mail for call-out').fill('engineer@brackmere.example');
  await own.getByRole('button', { name: 'Only at certain times' }).click();
  await own.getByRole('button', { name: 'Save' }).click();
  await expect(page.getByRole('cell', { name: /engineer@brackmere\.example/ })).toBeVisible();
  await expect(own.getByRole('textbox', { name: 'from, time 1' })).toHaveValue('22:00');
  await accessibility(page);
  // Whatever the hour of this test is, they are told.
  await own.getByRole('button', { name: 'Delete time 1' }).click();
  await own.getByRole('button', { name: 'Save' }).click();
  await expect(own).toContainText('Always');
  await expect(own.getByRole('button', { name: 'Save' })).toBeDisabled();
});

test('a shift pattern says who works when, with days off out of a calendar file', async () => {
  await page.goto(`${server.url}/alarms?part=calls`);
  const shifts = page.getByRole('region', { name: 'Shifts' });
  await expect(shifts).toContainText(/(Early|Late|Night): Crew [A-D]/);
  await shifts.getByRole('button', { name: 'Three shifts, four crews' }).click();
  for (const crew of ['A', 'B', 'C', 'D']) {
    await page.getByLabel(`Add somebody to Crew ${crew}`).selectOption({ label: NAME });
  }
  const ics = ['BEGIN:VCALENDAR', 'VERSION:2.0', 'PRODID:x', 'BEGIN:VEVENT', 'UID:1', 'DTSTAMP:20260101T000000Z'];
  const day = ['DTSTART;VALUE=DATE:20270402', 'SUMMARY:Quay holiday', 'END:VEVENT', 'END:VCALENDAR', ''];
  await page.getByLabel('Calendar file').setInputFiles({ name: 'days.ics', mimeType: 'text/calendar', buffer: Buffer.from([...ics, ...day].join('\r\n')) });
  await expect(page.getByText('1 day of days.ics added.')).toBeVisible();
  await page.getByLabel('Calendar file').setInputFiles({ name: 'other.ics', mimeType: 'text/calendar', buffer: Buffer.from('nothing') });
  await expect(page.getByText('other.ics could not be read: it is no calendar file (ICS)')).toBeVisible();
  await page.getByLabel('Day 1, Early').selectOption('nobody');
  await accessibility(page);
  await page.getByRole('button', { name: 'Save shift pattern' }).click();
  await expect(shifts).toContainText(`${NAME}`);
});

test('a plan is set step by step, and what is wrong is told at its place', async () => {
  await expect(plans()).toContainText('Alarms of priority 3 and higher at Brackmere Kelp Works / Drying, not acknowledged for 3 min');
  await plans().getByRole('button', { name: 'Drying', exact: true }).click();
  await page.getByLabel('Not acknowledged for, min').fill('0');
  await step(2).getByLabel('Address').fill('shift lead');
  await page.getByRole('button', { name: 'Save plan' }).click();
  await expect(step(2)).toContainText('Write an address like control@works.example.');
  await step(2).getByLabel('Address').fill('shift-lead@brackmere.example');
  await page.getByRole('button', { name: 'Step', exact: true }).click();
  await step(4).getByLabel('Person').selectOption({ label: NAME });
  for (const n of [4, 3, 2]) await page.getByRole('button', { name: `Step ${n} up` }).click();
  await step(1).getByLabel('then, min').fill('30');
  await accessibility(page);
  await page.getByRole('button', { name: 'Save plan' }).click();
  await expect(plans().getByRole('listitem').first().getByRole('listitem').first()).toContainText(`${NAME}, then 30 min`);
});

test('a test alarm runs through list and call-out, marked as a test', async () => {
  await plans().getByRole('button', { name: 'Test alarm through Drying' }).click();
  await expect(call()).toContainText('test');
  await expect(call()).toContainText('nobody has taken it');
  await expect(call().getByRole('list', { name: 'Messages' })).toContainText(/Plant engineer.*by Works mail.*told/s);
  await accessibility(page);
  const [mail] = await received();
  expect([mail?.to, mail?.subject.startsWith('TEST: ')]).toEqual(['engineer@brackmere.example', true]);
  await page.locator('main button[aria-pressed]').filter({ hasText: /^Standing/ }).click();
  const row = page.getByRole('row').filter({ hasText: 'Test alarm by Plant engineer' });
  await expect(row).toContainText('test');
  await row.getByRole('button', { name: 'Acknowledge' }).click();
  await page.locator('main button[aria-pressed]').filter({ hasText: 'Call-out' }).click();
  await expect(call()).toContainText('over, no alarm waits');
});

test('a real alarm reaches somebody, who takes the call on a phone by the link in the message', async ({ browser }) => {
  await page.getByRole('link', { name: 'Demo faults' }).click();
  await page.getByRole('button', { name: 'Jam the mill' }).click();
  await page.goto(`${server.url}/alarms?part=calls`);
  await expect(call()).toContainText('nobody has taken it', { timeout: 60_000 });
  await expect(call()).not.toContainText('test');
  await expect(call().getByRole('list', { name: 'Messages' })).toContainText(/Plant engineer.*told/s);
  const mail = (await received()).find((one) => one.by === 'mail' && !one.subject.startsWith('TEST'));
  expect(mail?.subject).toMatch(/^Mill /);
  const link = mail?.text.split('\n').find((line) => line.includes('/call/')) ?? '';

  const phone = await (await browser.newContext({ viewport: { width: 390, height: 780 } })).newPage();
  await phone.goto(link);
  await expect(phone.getByRole('heading', { name: 'Call-out “Drying”' })).toBeVisible();
  await expect(phone.getByText('Nobody has taken this call yet.')).toBeVisible();
  await expect(phone.getByText('What to do:').first()).toBeVisible();
  await accessibility(phone);
  expect(await phone.evaluate(() => document.documentElement.scrollWidth <= innerWidth)).toBe(true);
  await phone.getByLabel('Comment').fill('on my way');
  await phone.getByRole('button', { name: 'I take care of it' }).click();
  await expect(phone.getByText('You take care of it. Nobody else is told.')).toBeVisible();
  await expect(phone.getByText(`${NAME} takes care of it.`)).toBeVisible();
  await expect(call()).toContainText(`${NAME} takes care of it`);
  await phone.getByRole('button', { name: /^Acknowledge/ }).click();
  await expect(phone.getByText(/^(\d+ alarms acknowledged|Acknowledged)\.$/)).toBeVisible();
  await phone.context().close();
  expect((await received()).filter((one) => one.by === 'hook')).toEqual([]);
});

test('alarm classes say who acknowledges, what sounds and how long events are kept', async () => {
  await page.goto(`${server.url}/alarms?part=review`);
  await page.getByRole('button', { name: 'Alarm classes' }).click();
  const notices = form('Alarm class Notices');
  await expect(notices.getByLabel('To be acknowledged')).not.toBeChecked();
  await notices.getByLabel('Events kept, days').fill('0');
  await notices.getByRole('button', { name: 'Save' }).click();
  await expect(notices).toContainText('This must lie between 1 and 36500.');
  await notices.getByLabel('Events kept, days').fill('30');
  await accessibility(page);
  await notices.getByRole('button', { name: 'Save' }).click();
  await expect(notices.getByRole('button', { name: 'Save' })).toBeDisabled();
  await notices.getByRole('button', { name: 'Delete…' }).click();
  await page.getByRole('button', { name: 'Delete', exact: true }).click();
  await expect(page.getByText(/the alarms of .* are of it/)).toBeVisible();
});
