// What a new user does, from an empty plant to a report, counted in actions: a click, a chord or a filled field is one.

import { readFileSync } from 'node:fs';
import { expect, type Locator, test } from '@playwright/test';
import { enter, type Server, start } from '../server';

const REGISTERS = [
  'address\ttype\tname\tunit\tfactor',
  'holding 0\tu16\tLevel\t%\t0.1',
  'holding 2\tf32\tTemperature\t°C',
  'holding 4\tf32\tpH',
  'holding 6\tf32\tAgitator speed\trpm',
  'holding 8\tf32\tAgitator current\tA',
  'holding 10\tu16\tHeating valve\t%\t0.1',
  'holding 1\tu16\tPhase',
  'holding 16\ttext(8)\tRun',
].join('\n');

class Actions {
  count = 0;
  async click(target: Locator) {
    this.count += 1;
    await target.click();
  }
  async fill(target: Locator, text: string) {
    this.count += 1;
    await target.fill(text);
  }
}

let server: Server;
test.beforeAll(async () => {
  server = await start(['--empty', '--speed', '8']);
});
test.afterAll(() => server.stop());

test('from a controller to a report', async ({ page }) => {
  await enter(page, server);
  await expect(page.getByText('No tags yet')).toBeVisible();

  const act = new Actions();
  const button = (name: string | RegExp) => page.getByRole('button', { name });

  await act.click(button('Connect a controller'));
  await act.click(button('Add connection'));
  await act.fill(page.getByLabel('Host'), '127.0.0.1');
  await act.fill(page.getByLabel('Port', { exact: true }), String(server.controller));
  await page.getByLabel('Manual counts from').selectOption('0');
  act.count += 1;
  await act.click(button('Test'));
  const ladder = page.getByRole('list', { name: 'Test' });
  await expect(ladder.getByText('All steps passed.')).toBeVisible();
  await expect(ladder.getByText('passed', { exact: true })).toHaveCount(4);
  await act.click(button('Add this connection'));

  // The registers move before anything is a tag.
  const level = page.getByRole('row', { name: /^holding 0 / });
  const before = await level.textContent();
  const registersAt = act.count;
  await expect(level).not.toHaveText(before ?? '');

  await act.click(button('Paste a list'));
  await act.fill(page.getByLabel(/Paste rows/), REGISTERS);
  await act.click(button('Add 8 rows'));
  await expect(page.getByText('holding 16–23')).toBeVisible();
  await act.fill(page.getByLabel('Place for all'), 'EX-1');
  await act.click(button('Create 8 tags'));

  const card = page.getByRole('region', { name: 'EX-1' });
  await expect(card.getByText(/^\d+\.\d$/).first()).toBeVisible();
  await expect(card.getByText(/^KX-2611-\d{4}$/)).toBeVisible();
  const firstValueAt = act.count;

  await act.click(card.getByRole('button', { name: 'Level', exact: true }));
  const inspector = page.getByRole('complementary', { name: 'Inspector' });
  await act.fill(inspector.getByLabel('Limit high', { exact: true }), '40');
  await act.click(inspector.getByRole('button', { name: 'Save limits' }));
  await act.click(inspector.getByLabel('Record', { exact: true }));
  await expect(inspector.getByLabel('Record', { exact: true })).toBeChecked();

  const watch = page.getByRole('contentinfo');
  await expect(watch).toContainText(/EX-1 · Level high, \d+\.\d % over 40\.0/, { timeout: 90_000 });
  await act.click(watch.getByRole('button', { name: 'Acknowledge' }));
  await expect(watch).toContainText('No unacknowledged alarms');

  await act.click(page.getByRole('link', { name: 'Alarms', exact: true }));
  await act.click(button('History'));
  const history = page.getByRole('grid', { name: 'Alarm history' });
  await expect(history.getByRole('row', { name: /acknowledged.*Level high.*Plant engineer/ }).first()).toBeVisible();
  await expect(history.getByRole('row', { name: /returned.*Level high/ }).first()).toBeVisible({ timeout: 90_000 });

  await act.click(history.getByRole('row', { name: /Level high/ }).first());
  // The desk's trend asks for more pixels than the inspector's small one.
  const wide = (body: string | null) => (JSON.parse(body ?? '{}') as { parts?: number }).parts ?? 0;
  const answer = page.waitForResponse((r) => r.url().endsWith('/api/history/pixels') && wide(r.request().postData()) > 400);
  await act.click(inspector.getByRole('button', { name: 'Trend' }));
  const trend = (await (await answer).json()) as { tags: { last: (number | null)[]; limits: { kind: string; level: number }[] }[] };
  expect(trend.tags[0]?.limits).toMatchObject([{ kind: 'high', level: 40 }]);
  // At least the return below the limit was recorded; how much else depends on where in its run the vessel was.
  expect(trend.tags[0]?.last.some((v) => v !== null && v > 0 && v <= 40)).toBe(true);
  await expect(page.getByTestId('trend').last().locator('canvas')).toBeVisible();

  // However late the list of tags comes: the report takes what is recorded now, not what was when the list was last seen.
  await page.route('**/api/items/tag*', async (route) => {
    await new Promise((done) => setTimeout(done, 1000));
    await route.continue();
  });
  await act.click(page.getByRole('link', { name: 'Reports', exact: true }));
  await act.click(button('New report on EX-1'));
  const preview = page.frameLocator('iframe[title="Report preview"]');
  await expect(preview.getByRole('cell', { name: 'Level', exact: true }).first()).toBeVisible();
  await act.click(button('Create edition'));
  const fetched: Record<string, string> = {};
  for (const format of ['HTML', 'CSV'] as const) {
    const download = page.waitForEvent('download');
    await act.click(page.getByRole('link', { name: format }));
    const file = await download;
    expect(file.suggestedFilename()).toMatch(new RegExp(`^EX-1__last_15_minutes-.*\\.${format.toLowerCase()}$`));
    fetched[format] = readFileSync(await file.path(), 'utf8');
  }
  expect(fetched.HTML).toContain('<svg');
  expect(fetched.HTML).toContain('high 40.0');
  expect(fetched.HTML).toMatch(/Level high, \d+\.\d % over 40\.0/);
  expect(fetched.CSV).toMatch(/^Report,"EX-1, last 15 minutes"\r\n/);
  expect(fetched.CSV).toMatch(/\r\nEX-1,Level,%,\d+\.\d,\d+\.\d,\d+\.\d,/);

  console.log(`actions: registers live after ${registersAt}, first live value after ${firstValueAt}, all after ${act.count}`);
  expect(firstValueAt).toBeLessThanOrEqual(12);
  expect(act.count).toBeLessThanOrEqual(30);
});
