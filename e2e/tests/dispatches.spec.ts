// Reports that leave by themselves: a dispatch made as a sentence, sent by hand and at an event, its failure told and mended,
// and a pause that outlasts a restart.

import { existsSync, readdirSync, readFileSync, renameSync } from 'node:fs';
import { join } from 'node:path';
import { expect, type Page, test } from '@playwright/test';
import { accessibility } from '../accessibility';
import { enter, type Server, start } from '../server';

// Each goes on where the one before ended.
test.describe.configure({ mode: 'serial' });

let server: Server;
let page: Page;
const thrown: string[] = [];

test.beforeAll(async ({ browser }) => {
  server = await start(['--speed', '8', '--past', '0.3']);
  page = await (await browser.newContext()).newPage();
  page.on('pageerror', (error) => thrown.push(error.stack ?? error.message));
  await enter(page, server);
});

test.afterAll(async () => {
  await page.context().close();
  await server.stop();
  expect(thrown).toEqual([]);
});

const desk = (name: string) => page.getByRole('navigation', { name: 'Desks' }).getByRole('link', { name, exact: true }).click();
const tab = (name: string) => page.locator('main').getByRole('button', { name, exact: true }).click();
const form = () => page.locator('main form');
const line = (name: string) => page.getByRole('row').filter({ hasText: name });
const sent = () => page.getByRole('region', { name: 'Made and sent' });
const share = (...inside: string[]) => join(server.folder, 'share', ...inside);

interface Received {
  by: string;
  to: string;
  subject: string;
  text: string;
  files: { name: string; size: number }[];
}
/** What the mail server received, the newest first. */
const mails = async () =>
  ((await (await page.request.get(`${server.received}/received`)).json()) as Received[]).filter((one) => one.subject.startsWith('Vessel run'));

test('the dispatches of the plant stand as sentences with their next times', async () => {
  await desk('Reports');
  await tab('Dispatches');
  await expect(line('End of shift')).toContainText(
    'When a shift of “Three shifts, four crews” ends, Shift summary for the shift that ended last',
  );
  await expect(line('End of shift')).toContainText('shift-lead@brackmere.example as PDF; “Reports share” as PDF and XLSX');
  await expect(line('Energy of the month')).toContainText('On day 1 of every month at 07:00, Energy for the month before');
  await expect(line('Run of EX-1')).toContainText('at the event');
  await accessibility(page);
});

test('an event sends its report by itself, with the values of its instant', async () => {
  await page.getByRole('button', { name: 'Run of EX-1', exact: true }).click();
  // At this pace the next run of the vessel is not far.
  await expect(sent().getByText(/sent to Reports share as PDF/).first()).toBeVisible({ timeout: 120_000 });
  const [file] = readdirSync(share('EX-1'));
  expect(file).toMatch(/^Vessel run \d{4}-\d\d-\d\d \d{4}\.pdf$/);
  expect(readFileSync(share('EX-1', file as string)).subarray(0, 5).toString()).toBe('%PDF-');
  await page.getByRole('button', { name: 'All dispatches' }).click();
  await expect(line('Run of EX-1')).toContainText(/sent .* ago/);
});

test('a dispatch is made as a sentence, and what it would do stands beside it', async () => {
  await page.getByRole('button', { name: 'Dispatch', exact: true }).click();
  await form().getByLabel('Name', { exact: true }).fill('Vessels in the morning');
  await form().getByRole('combobox', { name: 'Every' }).selectOption('week');
  await form().getByText('Friday', { exact: true }).click();
  await form().getByLabel('Hour').selectOption('07');
  await form().getByLabel('Minute').selectOption('30');
  await expect(form().getByLabel('Line of cron')).toHaveValue('30 7 * * 1,5');
  const next = page.getByRole('region', { name: 'Next times' });
  await expect(next.getByRole('listitem')).toHaveCount(5);
  await expect(next).toContainText('07:30');
  await form().getByLabel('Line of cron').fill('0 0 31 2 *');
  await expect(form().getByText('This time never comes; look at the day and the month.')).toBeVisible();
  await form().getByLabel('Line of cron').fill('*/15 6-18 * * 1-5');
  await expect(next).toContainText(/:(00|15|30|45)/);
  await form().getByRole('combobox', { name: 'Every' }).selectOption('day');
  await page.getByRole('button', { name: 'Shift summary', exact: true }).click();
  await form().getByLabel('Report', { exact: true }).selectOption({ label: 'Vessel run' });
  await page.getByRole('button', { name: 'the day before', exact: true }).click();
  await form().getByLabel('It covers').selectOption('own');
  await page.getByRole('button', { name: 'keep it here', exact: true }).click();
  await page.getByRole('button', { name: 'Delivery', exact: true }).click();
  await form().getByLabel('Through').selectOption({ label: 'Works mail' });
  await expect(form().getByText('Say who gets it: at least one address.')).toBeVisible();
  await form().getByLabel('To', { exact: true }).fill('lead@brackmere.example, lab@brackmere.example');
  await form().getByText('XLSX', { exact: true }).click();
  await expect(form().getByText('XLSX leaves out its trends.')).toBeVisible();
  await form().getByLabel('Files are called').fill('{report} of {date}');
  await expect(form().getByText(/Next: Vessel run of \d{4}-\d\d-\d\d\.pdf/)).toBeVisible();
  await accessibility(page);
  // What is typed outlasts another desk.
  await desk('Board');
  await desk('Reports');
  await tab('Dispatches');
  await page.getByRole('button', { name: 'Dispatch', exact: true }).click();
  await expect(form().getByLabel('Name', { exact: true })).toHaveValue('Vessels in the morning');
  await page.getByRole('button', { name: 'Create dispatch' }).click();
  await expect(line('Vessels in the morning')).toContainText('Every day at');
  await expect(line('Vessels in the morning')).toContainText('lead@brackmere.example and lab@brackmere.example as PDF and XLSX');
});

test('it is sent by hand, and arrives with the same files as the edition', async () => {
  await page.getByRole('button', { name: 'Vessels in the morning', exact: true }).click();
  await page.getByRole('button', { name: 'Send now' }).click();
  await expect(sent().getByText(/sent to lab@brackmere.example by Works mail as PDF and XLSX/)).toBeVisible({ timeout: 60_000 });
  await expect(sent()).toContainText('asked for by Plant engineer');
  await expect.poll(async () => (await mails()).map((one) => one.to).sort()).toEqual(['lab@brackmere.example', 'lead@brackmere.example']);
  const [mail] = await mails();
  expect(mail?.subject).toContain('Vessel run');
  expect(mail?.text).toContain('Place: ');
  expect(mail?.files.map((file) => file.name.replace(/\d{4}-\d\d-\d\d/, 'DAY'))).toEqual(['Vessel run of DAY.pdf', 'Vessel run of DAY.xlsx']);
  const link = await sent().getByRole('link', { name: 'XLSX' }).first().getAttribute('href');
  const edition = await (await page.request.get(`${server.url}${link}`)).body();
  expect(edition.length).toBe(mail?.files[1]?.size);
  // The edition stands with those of its report, too.
  await page.getByRole('button', { name: 'Close', exact: true }).click();
  await tab('Reports');
  await page.getByRole('button', { name: 'Vessel run', exact: true }).click();
  await expect(page.getByRole('region', { name: 'Editions' })).toContainText('Plant engineer by dispatch “Vessels in the morning”');
  await expect(page.getByRole('region', { name: 'Dispatches of this report' })).toContainText('Run of EX-1');
});

test('what cannot be delivered is told, tried again, and arrives when it is mended', async () => {
  await page.getByRole('region', { name: 'Dispatches of this report' }).getByRole('button', { name: 'New dispatch' }).click();
  await form().getByLabel('Name', { exact: true }).fill('To nowhere');
  await form().getByLabel('It makes the report', { exact: true }).selectOption('hand');
  await page.getByRole('button', { name: 'keep it here', exact: true }).click();
  await page.getByRole('button', { name: 'Delivery', exact: true }).click();
  await form().getByLabel('Through').selectOption({ label: 'Reports share' });
  await form().getByText('CSV', { exact: true }).click();
  await form().getByText('PDF', { exact: true }).click();
  await page.getByRole('button', { name: 'Create dispatch' }).click();
  // The share is not mounted any more.
  const folder = share();
  renameSync(folder, `${folder}-away`);
  await page.getByRole('button', { name: 'To nowhere', exact: true }).click();
  await page.getByRole('button', { name: 'Send now' }).click();
  await expect(sent().getByText(/not sent to Reports share \(1×\): .*there is no such folder.*tried again in/)).toBeVisible({ timeout: 30_000 });
  expect(existsSync(folder)).toBe(false);
  renameSync(`${folder}-away`, folder);
  await expect(async () => {
    const again = sent().getByRole('button', { name: 'Try again now' });
    if (await again.isVisible()) await again.click();
    await expect(sent().getByText(/sent to Reports share as CSV/)).toBeVisible({ timeout: 2000 });
  }).toPass({ timeout: 60_000 });
  await page.getByRole('button', { name: 'Close', exact: true }).click();
  await tab('Sent');
  await expect(page.getByRole('region', { name: 'Made and sent by dispatches' })).toContainText('To nowhere · Vessel run');
  await page.getByText('only what failed').click();
  await expect(page.getByText('Nothing failed.')).toBeVisible();
});

test('a pause outlasts a restart, and a deleted dispatch leaves its editions', async () => {
  await tab('Dispatches');
  await page.getByRole('button', { name: 'Pause Energy of the month' }).click();
  await expect(line('Energy of the month')).toContainText('paused');
  await server.restart();
  await page.reload();
  await expect(line('Energy of the month')).toContainText('paused');
  await expect(line('To nowhere')).toContainText(/sent .* ago/);
  await page.getByRole('button', { name: 'Resume Energy of the month' }).click();
  await expect(line('Energy of the month')).not.toContainText('paused');
  await page.getByRole('button', { name: 'To nowhere', exact: true }).click();
  await page.getByRole('button', { name: 'Delete…' }).click();
  await page.getByRole('alertdialog').getByRole('button', { name: 'Delete' }).click();
  await expect(line('To nowhere')).toHaveCount(0);
  await tab('Sent');
  await expect(page.getByRole('region', { name: 'Made and sent by dispatches' })).toContainText('To nowhere');
});
