// Pictures of the main views for docs/screenshots, from the demo plant with a day of its recorded past.

import { resolve } from 'node:path';
import { expect, type Page, test } from '@playwright/test';
import { NAME, PASSWORD, start } from './server';

const FOLDER = resolve(import.meta.dirname, '../docs/screenshots');

test('pictures of the main views', async ({ page }) => {
  const server = await start(['--past', '24']);
  try {
    await page.goto(server.entrance);
    await page.getByLabel('Name').fill(NAME);
    await page.getByLabel('Password').fill(PASSWORD);
    await page.getByRole('button', { name: 'Create account' }).click();
    await expect(page.getByRole('region', { name: 'EX-1' })).toBeVisible();
    await expect(page.getByText('Loading the recorded past')).toBeVisible();
    await expect(page.getByText('Loading the recorded past')).toHaveCount(0, { timeout: 300_000 });
    await upset(page);
    await views(page);
  } finally {
    await server.stop();
  }
});

/** Something must be wrong before there is an alarm to show. */
async function upset(page: Page) {
  await page.getByRole('link', { name: 'Demo faults' }).click();
  await page.getByLabel('for', { exact: true }).selectOption('5 min');
  for (const fault of ['Blind filter 1', 'Blind filter 2', 'Trip pump 2', 'EX-3 drifts']) {
    await page.getByRole('button', { name: fault }).click();
  }
  await page.waitForTimeout(75_000);
}

async function views(page: Page) {
  const shot = async (name: string) => {
    await page.waitForTimeout(1500);
    await page.screenshot({ path: `${FOLDER}/${name}.png` });
  };
  const desk = (name: string) => page.getByRole('navigation').getByRole('link', { name, exact: true }).click();
  const ex1 = page.getByRole('region', { name: 'EX-1' });
  await desk('Board');
  await page.getByRole('treeitem', { name: /Brackmere/ }).click();
  await shot('board');
  await page.getByRole('treeitem', { name: /Extraction/ }).click();
  await page.locator('main button[aria-pressed]').getByText('Cards', { exact: true }).click();
  await ex1.getByRole('button', { name: 'pH', exact: true }).click();
  await page.getByRole('button', { name: 'Set by hand…' }).click();
  await page.getByLabel('Value', { exact: true }).fill('9.1');
  await page.getByLabel('Reason').fill('Probe is in the laboratory for calibration');
  await page.getByRole('button', { name: 'Set by hand', exact: true }).click();
  await shot('inspector');
  await ex1.getByRole('button', { name: 'Level', exact: true }).click();
  await page.getByRole('button', { name: 'Trend', exact: true }).click();
  await page.getByRole('button', { name: 'Close inspector' }).click();
  await page.getByLabel('Add a tag').fill('EX-1/Temp');
  await page.keyboard.press('Enter');
  await page.getByLabel('Add a tag').fill('EX-1/Phase');
  await page.keyboard.press('Enter');
  await page.getByRole('treeitem', { name: /Landing/ }).click();
  await page.getByLabel('Add a tag').fill('tank 1/Filter');
  await page.keyboard.press('Enter');
  await page.getByRole('button', { name: /^Period: / }).click();
  await page.getByRole('button', { name: 'last 1 h', exact: true }).click();
  await page.getByRole('button', { name: 'Cursor A' }).click();
  await page.getByRole('button', { name: 'Cursor B' }).click();
  await page.getByRole('button', { name: 'Note', exact: true }).click();
  await page.getByLabel('Text', { exact: true }).fill('Steam valve swapped; watch the heating.');
  await page.getByRole('button', { name: 'Add note' }).click();
  await shot('trend');
  await page.getByRole('button', { name: 'Lookup', exact: true }).click();
  await page.getByRole('button', { name: 'Tags by what they are' }).click();
  await page.getByLabel('With words in the path').fill('ex-1');
  await page.getByLabel('In the unit').fill('°C');
  await page.getByLabel('A row is').selectOption('figures of spans');
  await page.getByRole('textbox', { name: 'Spans of' }).fill('5');
  await page.getByRole('region', { name: 'What the columns come to' }).getByRole('row').nth(3).waitFor();
  await shot('lookup');
  const at = new URL(page.url()).origin;
  const mean = await page.request.get(`${at}/api/find`, { params: { text: 'EX-1 mean of 10 min', kind: 'tag', limit: 1 } });
  const { found } = (await mean.json()) as { found: { id: string }[] };
  await desk('Record');
  await page.getByRole('button', { name: 'Minute figures', exact: true }).click();
  await page.getByRole('table', { name: 'Rows of Minute figures' }).waitFor();
  await shot('record');
  await page.getByRole('treeitem', { name: /Brackmere/ }).click();
  await desk('Alarms');
  await page.getByRole('grid', { name: 'Standing alarms' }).getByRole('row').nth(1).getByRole('button').first().click();
  await shot('alarms');
  await page.getByRole('button', { name: 'Close inspector' }).click();
  await page.locator('main button[aria-pressed]').getByText('Rules').click();
  await page.getByLabel('Filter alarm rules').fill('compressor motor current');
  await page.getByRole('grid', { name: 'Alarm rules' }).getByRole('gridcell', { name: /Motor current/ }).first().click();
  await page.keyboard.press('Enter');
  const rule = page.getByRole('region', { name: 'Alarm rule', exact: true });
  await rule.getByLabel('Level, A').fill('21');
  await rule.getByLabel('Deadband', { exact: true }).fill('0');
  await rule.getByRole('button', { name: 'Backtest', exact: true }).click();
  await rule.getByRole('button', { name: 'Run backtest' }).click();
  await rule.getByRole('table', { name: 'Outcome of the backtest' }).waitFor();
  await rule.getByRole('region', { name: 'Proof' }).evaluate((proof) => proof.scrollIntoView());
  await shot('rules');
  await rule.getByRole('button', { name: 'Discard changes' }).click();
  await page.locator('main button[aria-pressed]').getByText('Performance').click();
  await page.getByRole('table', { name: 'Figures and guides' }).waitFor();
  await shot('performance');
  await desk('Model');
  await page.locator('main button[aria-pressed]').getByText('Formulas').click();
  await page.getByRole('row', { name: /^Electric power/ }).click();
  await expect(page.getByRole('figure', { name: 'The last hour' })).toBeVisible();
  await shot('formulas');
  await page.getByRole('button', { name: 'Close formula' }).click();
  await page.locator('main button[aria-pressed]').getByText('Tags', { exact: true }).click();
  await page.getByRole('treeitem', { name: /EX-1/ }).click();
  const sheet = page.getByRole('grid', { name: 'Tags' });
  await sheet.focus();
  await page.keyboard.press('Control+Home');
  for (const key of ['ArrowRight', 'ArrowRight', 'ArrowRight', 'ArrowRight', 'ArrowRight']) await page.keyboard.press(key);
  for (const text of ['95', 'much']) {
    await page.keyboard.type(text);
    await page.keyboard.press('Enter');
  }
  await shot('model');
  await page.getByRole('button', { name: 'Discard all' }).click();
  await desk('Reports');
  await page.getByRole('button', { name: /^Shift summary/ }).click();
  await page.getByRole('button', { name: 'Create edition' }).click();
  await shot('report');
  await page.getByRole('button', { name: 'All reports' }).click();
  await page.getByRole('button', { name: 'Dispatches', exact: true }).click();
  await page.getByRole('button', { name: 'End of shift', exact: true }).click();
  await page.getByRole('button', { name: 'Send now' }).click();
  await page.getByText(/^sent to Reports share/).waitFor();
  await page.getByRole('button', { name: /^send it to/ }).click();
  await shot('dispatch');
  await desk('Journal');
  await page.getByRole('button', { name: /^Built the demo plant/ }).click();
  await shot('journal');
  await desk('Model');
  await page.locator('main button[aria-pressed]').getByText('Classes', { exact: true }).click();
  await page.getByRole('navigation', { name: 'Classes' }).getByRole('button', { name: /^Vessel\s*\d/ }).click();
  await page.getByLabel('Heating valve is a main value', { exact: true }).click();
  await page.getByRole('button', { name: 'Details of Level', exact: true }).click();
  await shot('classes');
  await page.getByRole('button', { name: 'Discard changes' }).click();
  await desk('Connect');
  await page.getByRole('button', { name: /^Extraction/ }).click();
  await page.getByRole('button', { name: 'Choose holding 0' }).click();
  await page.getByRole('button', { name: 'Choose holding 4' }).click({ modifiers: ['Shift'] });
  await shot('registers');
  await page.getByRole('button', { name: 'Remove holding 0', exact: true }).click();
  await page.getByRole('button', { name: /^Havrel itself/ }).click();
  await page.getByRole('button', { name: /^Choose all/ }).click();
  await page.getByRole('button', { name: /^Add \d+ rows$/ }).click();
  await page.getByLabel('Place for all').fill('Brackmere Kelp Works / Control system');
  const named = page.getByRole('form', { name: 'New tags' }).getByLabel(/^Name of/);
  await named.nth(2).fill('Extraction: round trip p50');
  await page.keyboard.press('Enter');
  await page.getByText(/^Names by this example/).waitFor();
  await shot('intake');
  await desk('System');
  await page.getByRole('button', { name: '1 session' }).click();
  await shot('system');
  // Somebody is in every crew, so that the test alarm reaches a person.
  await page.getByLabel('E-mail for call-out').fill('engineer@brackmere.example');
  await page.getByRole('region', { name: 'Call-out' }).getByRole('button', { name: 'Save' }).click();
  await desk('Alarms');
  await page.locator('main button[aria-pressed]').getByText('Call-out').click();
  await page.getByRole('button', { name: 'Three shifts, four crews' }).click();
  for (const crew of ['A', 'B', 'C', 'D']) await page.getByLabel(`Add somebody to Crew ${crew}`).selectOption({ label: NAME });
  await page.getByRole('button', { name: 'Save shift pattern' }).click();
  await page.getByRole('button', { name: 'Test alarm through Drying' }).click();
  await page.getByText('told, 250').waitFor();
  await page.getByText(/^The test alarm stands/).waitFor({ state: 'hidden' });
  await shot('call-out');
  await page.getByRole('contentinfo').getByRole('button', { name: 'Acknowledge' }).first().click();
  await page.getByRole('button', { name: NAME, exact: true }).click();
  await page.getByRole('menuitemradio', { name: 'Night theme' }).click();
  await desk('Board');
  await page.getByRole('treeitem', { name: /Landing/ }).click();
  await page.keyboard.press('Control+k');
  await page.getByPlaceholder(/^A tag, a place/).fill('filter drop');
  await shot('night');
}
