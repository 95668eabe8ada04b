// Pictures of the main views for docs/screenshots, from the demo plant after a few runs of its vessels.

import { resolve } from 'node:path';
import { expect, type Page, test } from '@playwright/test';
import { NAME, PASSWORD, start } from './server';

const FOLDER = resolve(import.meta.dirname, '../docs/screenshots');

test('pictures of the main views', async ({ page }) => {
  const server = await start(['--speed', '3']);
  try {
    await page.goto(server.url);
    await page.getByLabel('Name').fill(NAME);
    await page.getByLabel('Password').fill(PASSWORD);
    await page.getByRole('button', { name: 'Make account' }).click();
    await expect(page.getByRole('region', { name: 'EX-1' })).toBeVisible();
    // Some history must gather before there is something to show.
    await page.waitForTimeout(Number(process.env.HAVREL_SHOT_MINUTES ?? 7) * 60_000);
    await views(page);
  } finally {
    await server.stop();
  }
});

async function views(page: Page) {
  const shot = async (name: string) => {
    await page.waitForTimeout(1500);
    await page.screenshot({ path: `${FOLDER}/${name}.png` });
  };
  const desk = (name: string) => page.getByRole('navigation').getByRole('link', { name, exact: true }).click();
  const ex1 = page.getByRole('region', { name: 'EX-1' });
  await page.getByRole('treeitem', { name: /Extraction/ }).click();
  await shot('board');
  await ex1.getByRole('button', { name: 'Level', exact: true }).click();
  await shot('inspector');
  await page.getByRole('button', { name: 'Trend', exact: true }).click();
  await page.getByLabel('Add a tag').fill('EX-1/Temp');
  await page.keyboard.press('Enter');
  await page.getByRole('button', { name: 'Close inspector' }).click();
  await page.getByTestId('trend').locator('.u-over').hover({ position: { x: 700, y: 120 } });
  await shot('trend');
  await desk('Alarms');
  await shot('alarms');
  await desk('Model');
  await page.getByRole('treeitem', { name: /EX-1/ }).click();
  await shot('model');
  await desk('Reports');
  await page.getByRole('button', { name: /^Extraction, last/ }).click();
  await page.getByRole('button', { name: 'Make now' }).click();
  await shot('report');
  await desk('Journal');
  await page.getByRole('button', { name: /^Built the demo plant/ }).click();
  await shot('journal');
  await desk('Connect');
  await page.getByRole('button', { name: /^Extraction/ }).click();
  await page.getByRole('button', { name: 'Choose holding 0' }).click();
  await page.getByRole('button', { name: 'Choose holding 4' }).click({ modifiers: ['Shift'] });
  await shot('registers');
  await page.getByRole('button', { name: 'Settings and test' }).click();
  await page.getByRole('button', { name: 'Test', exact: true }).click();
  await shot('test');
}
