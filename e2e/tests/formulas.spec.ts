// Computed tags: one is written with offered tags, a mistake in it is told, it runs, its past is computed, and a lost input is named.

import { expect, type Page, test } from '@playwright/test';
import { accessibility } from '../accessibility';
import { cards, enter, type Server, start } from '../server';

// Each goes on from what the one before has made.
test.describe.configure({ mode: 'serial' });

let server: Server;
let page: Page;
const thrown: string[] = [];

test.beforeAll(async ({ browser }) => {
  server = await start(['--speed', '4', '--past', '1']);
  page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();
  page.on('pageerror', (error) => thrown.push(error.stack ?? error.message));
  await enter(page, server);
  await page.getByRole('navigation').getByRole('link', { name: 'Model', exact: true }).click();
  await page.locator('main button[aria-pressed]').getByText('Formulas').click();
});

test.afterAll(async () => {
  await page.context().close();
  await server.stop();
  expect(thrown).toEqual([]);
});

const list = () => page.getByRole('grid', { name: 'Computed tags' });
const line = (name: string) => list().getByRole('row', { name: new RegExp(`^${name}`) });
const editor = () => page.getByRole('textbox', { name: 'Formula', exact: true });
const offered = () => page.locator('.cm-tooltip-autocomplete');
const result = () => page.getByTestId('formula-result');

test('the demo plant computes, and a list says what', async () => {
  await expect(page.getByRole('heading', { name: '12 computed tags' })).toBeVisible();
  await expect(line('Hottest zone')).toContainText('Zone 1 / Temperature');
  await expect(line('Hottest zone')).toContainText(/\d+\.\d\s*°C/);
  await accessibility(page);
});

test('a formula is written with what is offered, and a mistake is told at its place', async () => {
  await page.getByRole('button', { name: 'New computed tag' }).click();
  const form = page.getByRole('form', { name: 'New computed tag' });
  await form.getByLabel('Name').fill('Zone spread');
  await form.getByRole('combobox', { name: 'Place' }).pressSequentially('belt dryer');
  await page.getByRole('option', { name: /^Belt dryer/ }).click();
  await editor().click();
  await page.keyboard.type('zone 1 temperature');
  await expect(offered().getByText('Belt dryer / Zone 1 · °C').first()).toBeVisible();
  await page.keyboard.press('Enter');
  await expect(editor().getByLabel('tag Brackmere Kelp Works/Drying/Belt dryer/Zone 1/Temperature', { exact: true })).toBeVisible();
  await page.keyboard.type(' - ');
  await expect(form.getByText(/The formula ends too early/)).toBeVisible();
  await page.keyboard.type('mill power');
  await expect(offered().getByText('Drying / Mill · kW')).toBeVisible();
  await page.keyboard.press('Enter');
  await expect(form.getByText(/At -: kW and °C do not measure the same/)).toBeVisible();
  await expect(form.getByRole('button', { name: 'Create computed tag' })).toBeDisabled();
  // A chip is one character to the keys.
  await page.keyboard.press('Backspace');
  await page.keyboard.type('aver');
  await offered().getByText('average(value, span)').waitFor();
  await page.keyboard.press('Enter');
  await page.keyboard.type('zone 4 temperature');
  await expect(offered().getByText('Belt dryer / Zone 4 · °C').first()).toBeVisible();
  await page.keyboard.press('Enter');
  await page.keyboard.type(', "5min")');
  await expect(result()).toContainText(/\d\s*°C/);
  await expect(form.getByRole('figure', { name: 'The last hour' })).toBeVisible();
  await expect(form.getByRole('table', { name: 'Inputs' })).toContainText('Zone 4 / Temperature');
  await expect(form.getByText(/It looks back 5 min/)).toBeVisible();
  await form.getByRole('button', { name: 'Use °C' }).click();
  // What is typed is still there after a look elsewhere.
  await page.locator('main button[aria-pressed]').getByText('Tags', { exact: true }).click();
  await page.locator('main button[aria-pressed]').getByText('Formulas').click();
  await expect(form.getByLabel('Name')).toHaveValue('Zone spread');
  await expect(editor()).toContainText('average(');
  await accessibility(page);
  await form.getByRole('button', { name: 'Create computed tag' }).click();
  await expect(line('Zone spread')).toContainText(/-?\d+\.\d\s*°C/);
});

test('its past is computed from history', async () => {
  const form = page.getByRole('form', { name: 'Formula' });
  await form.getByLabel('How far back').selectOption('last hour');
  await form.getByRole('button', { name: 'Compute from history' }).click();
  const reasons = () =>
    page.evaluate(async () => {
      const { items } = await (await fetch('/api/items/tag?text=Zone%20spread')).json();
      const hour = 3_600_000;
      const body = {
        tags: [items[0].id],
        from: new Date(Date.now() - 2 * hour).toISOString(),
        to: new Date(Date.now() + hour).toISOString(),
      };
      const headers = { 'content-type': 'application/json' };
      const answer = await (await fetch('/api/history/raw', { method: 'POST', headers, body: JSON.stringify(body) })).json();
      return answer.tags[0].reason.filter((words: string) => words === 'computed later from recorded values').length;
    });
  await expect.poll(reasons, { timeout: 20_000 }).toBeGreaterThan(20);
  await page.getByRole('button', { name: 'Close formula' }).click();
});

test('a circle is refused and shown', async () => {
  await line('Electric power').click();
  await page.keyboard.press('Enter');
  const form = page.getByRole('form', { name: 'Formula' });
  await expect(editor()).toContainText('Meter M1 / Power');
  await editor().click();
  await page.keyboard.press('Control+End');
  await page.keyboard.type(' + cost of electricity');
  await expect(offered().getByText('Cost of electricity')).toBeVisible();
  await page.keyboard.press('Enter');
  await expect(form.getByText(/It would read itself: it reads .*Cost of electricity, which reads .*Electric power/)).toBeVisible();
  await expect(form.getByRole('button', { name: 'Save formula' })).toBeDisabled();
  await form.getByRole('button', { name: 'Discard changes' }).click();
  await page.getByRole('button', { name: 'Close formula' }).click();
});

test('a bad input makes it bad, and the inspector names the input', async () => {
  await page.getByRole('navigation').getByRole('link', { name: 'Connect', exact: true }).click();
  await page.evaluate(async () => {
    const { items, revision } = await (await fetch('/api/items/connection')).json();
    const dryline = items.find((item: { set: { name: string } }) => item.set.name === 'Dryline');
    const edits = [{ op: 'patch', kind: 'connection', id: dryline.id, set: { enabled: false } }];
    const headers = { 'content-type': 'application/json', 'If-Match': String(revision) };
    await fetch('/api/edits', { method: 'POST', headers, body: JSON.stringify({ why: 'Off', edits }) });
  });
  await page.getByRole('navigation').getByRole('link', { name: 'Board', exact: true }).click();
  await cards(page);
  const card = page.getByRole('region', { name: 'Belt dryer', exact: true });
  await card.getByRole('button', { name: 'Hottest zone', exact: true }).click();
  const inspector = page.getByRole('complementary', { name: 'Inspector' });
  await expect(inspector).toContainText(/an input is bad: .*Zone \d\/Temperature, the connection is switched off/);
  await expect(inspector.getByText('Zone 1 / Temperature')).toBeVisible();
  await inspector.getByRole('button', { name: 'Open formula' }).click();
  await expect(page).toHaveURL(/model.*formula=/);
  await accessibility(page);
});
