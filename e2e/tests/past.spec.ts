// Looking back: the board as it stood an hour ago, steps and play, what cannot be operated, and the way back.

import { expect, type Page, test } from '@playwright/test';
import { accessibility } from '../accessibility';
import { enter, type Server, start } from '../server';

test.describe.configure({ mode: 'serial' });

let server: Server;
let page: Page;
const thrown: string[] = [];

test.beforeAll(async ({ browser }) => {
  server = await start(['--speed', '4', '--past', '3']);
  page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();
  page.on('pageerror', (error) => thrown.push(error.stack ?? error.message));
  await enter(page, server);
  await expect(page.getByText('Loading the recorded past')).toHaveCount(0, { timeout: 60_000 });
});

test.afterAll(async () => {
  await page.context().close();
  await server.stop();
  expect(thrown).toEqual([]);
});

const band = () => page.getByRole('region', { name: 'Looking back' });
const line = (name: string) => page.getByRole('region', { name, exact: true });

/** What a tag is now, by words of its path. */
const current = (text: string) => recorded(text, undefined);

/** What the server says a tag was at an instant, in ms. */
async function recorded(text: string, instant: number | undefined): Promise<number> {
  const found = await page.request.get(`${server.url}/api/items/tag`, { params: { text, limit: 1 } });
  const no = ((await found.json()) as { items: { no: number }[] }).items[0]?.no;
  const headers: Record<string, string> = instant === undefined ? {} : { 'Havrel-Instant': new Date(instant).toISOString() };
  const answer = await page.request.get(`${server.url}/api/values`, { params: { tags: String(no) }, headers });
  return ((await answer.json()) as { value: number }[])[0]?.value ?? Number.NaN;
}

test('the board shows how it stood an hour ago, and nothing can be operated', async () => {
  // The recorded past is loaded while the program runs already, the newest first.
  const loaded = () => recorded('Extraction/EX-3/Level', Date.now() - 2 * 3_600_000);
  await expect.poll(async () => Number.isFinite(await loaded()), { timeout: 60_000 }).toBe(true);
  await page.getByRole('timer', { name: 'Plant time' }).click();
  await page.getByRole('button', { name: '1 h ago' }).click();
  await expect(band()).toContainText('Looking back:');
  await expect(band()).toContainText('no configuration was in force; the present one is shown');
  const instant = Number(new URL(page.url()).searchParams.get('instant'));
  expect(Math.abs(Date.now() - 3_600_000 - instant)).toBeLessThan(60_000);
  const level = await recorded('Extraction/EX-3/Level', instant);
  await expect(line('EX-3').getByRole('listitem').first()).toContainText(level.toFixed(1));
  await expect(page.getByRole('button', { name: 'Command several…' })).toHaveCount(0);
  await accessibility(page);
  // It stands still.
  const shown = await line('Conveyor').textContent();
  const now = await current('Conveyor/Motor current');
  await expect.poll(() => current('Conveyor/Motor current'), { timeout: 40_000 }).not.toBe(now);
  expect(await line('Conveyor').textContent()).toBe(shown);
  await line('EX-3').getByRole('button', { name: 'Level', exact: true }).click();
  await expect(page.getByRole('complementary', { name: 'Inspector' }).getByRole('button', { name: 'Save settings' })).toBeDisabled();
  await page.getByRole('button', { name: 'Close inspector' }).click();
});

test('it steps, plays, and goes along to other desks', async () => {
  const at = () => Number(new URL(page.url()).searchParams.get('instant'));
  const began = at();
  await band().getByRole('button', { name: 'Back 1 min' }).click();
  await expect.poll(at).toBe(began - 60_000);
  const level = await recorded('Extraction/EX-3/Level', began - 60_000);
  await expect(line('EX-3').getByRole('listitem').first()).toContainText(level.toFixed(1));
  await band().getByLabel('Speed of play').selectOption('60');
  await band().getByRole('button', { name: 'Play' }).click();
  await expect.poll(at).toBeGreaterThan(began);
  await band().getByRole('button', { name: 'Pause' }).click();
  await page.getByRole('navigation').getByRole('link', { name: 'Alarms', exact: true }).click();
  await expect(band()).toBeVisible();
  await page.getByRole('navigation').getByRole('link', { name: 'Model', exact: true }).click();
  await expect(page.getByRole('gridcell').nth(2)).toBeVisible();
  await expect(band()).toBeVisible();
});

test('one key returns to now, where values move again', async () => {
  await page.getByRole('navigation').getByRole('link', { name: 'Board', exact: true }).click();
  await page.locator('main').click({ position: { x: 5, y: 5 } });
  await page.keyboard.press('Escape');
  await expect(band()).toHaveCount(0);
  const moving = line('Conveyor');
  await expect(moving).toContainText('t/h');
  const before = await moving.textContent();
  await expect.poll(() => moving.textContent(), { timeout: 40_000 }).not.toBe(before);
  await expect(page.getByRole('button', { name: 'Command several…' })).toBeVisible();
});

test('an instant is typed, and one that is still to come is refused', async () => {
  await page.getByRole('timer', { name: 'Plant time' }).click();
  const field = page.getByLabel('Show how it stood at');
  await field.fill('2999-01-01 00:00');
  await expect(page.getByText('That is still to come.')).toBeVisible();
  await field.press('Enter');
  await expect(band()).toHaveCount(0);
  await field.fill('30 min');
  await field.press('Enter');
  await expect(band()).toContainText('30 min ago');
  await band().getByRole('button', { name: /^Return to now/ }).click();
  await expect(band()).toHaveCount(0);
});
