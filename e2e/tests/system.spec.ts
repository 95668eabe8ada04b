// Who may come in, and what the page says when a part of Havrel fails.

import { readFileSync } from 'node:fs';
import { join } from 'node:path';
import { expect, type Page, test } from '@playwright/test';
import { accessibility } from '../accessibility';
import { NAME, PASSWORD, type Server, start } from '../server';

let server: Server;
let page: Page;
test.beforeAll(async ({ browser }) => {
  server = await start(['--empty']);
  page = await (await browser.newContext()).newPage();
});
test.afterAll(() => server.stop());

const button = (name: string | RegExp) => page.getByRole('button', { name });

test('without its address the first account needs the code', async () => {
  await page.goto(server.url);
  await page.getByLabel('Name').fill(NAME);
  await page.getByLabel('Password').fill(PASSWORD);
  await page.getByLabel('One-time code').fill('GUES-SGUE-SSGU');
  await button('Create account').click();
  await expect(page.getByText(/The code is wrong/)).toBeVisible();
  await page.getByLabel('One-time code').fill(new URL(server.entrance).hash.replace('#code=', ''));
  await button('Create account').click();
  await expect(page.getByText('No tags yet')).toBeVisible();
});

test('accounts are added, changed and disabled, and their sessions end at once', async ({ browser }) => {
  await page.getByRole('navigation').getByRole('link', { name: 'System', exact: true }).click();
  const add = page.getByRole('form', { name: 'Add an account' });
  await add.getByLabel('Name').fill('Shift lead');
  await add.getByLabel('Password').fill('short');
  await add.getByRole('button', { name: 'Add account' }).click();
  await expect(add.getByText('A password has at least 8 characters')).toBeVisible();
  await add.getByLabel('Password').fill(PASSWORD);
  await page.keyboard.press('Enter');
  const row = page.getByRole('row', { name: /^Shift lead/ });
  await expect(row).toContainText('not signed in');

  const other = await (await browser.newContext()).newPage();
  const enter = async (password: string) => {
    await other.getByLabel('Name').fill('Shift lead');
    await other.getByLabel('Password').fill(password);
    await other.getByRole('button', { name: 'Sign in' }).click();
  };
  await other.goto(server.url);
  await enter(PASSWORD);
  await expect(other.getByText('No tags yet')).toBeVisible();
  // An operator finds only what is theirs.
  await other.getByRole('navigation').getByRole('link', { name: 'System', exact: true }).click();
  await expect(other.getByRole('region', { name: 'Your password' })).toBeVisible();
  await expect(other.getByRole('region', { name: 'Accounts' })).toHaveCount(0);

  await page.reload();
  await row.getByRole('button', { name: '1 session' }).click();
  const sessions = page.getByRole('list', { name: 'Sessions of Shift lead' });
  await expect(sessions).toContainText('from 127.0.0.1');
  await sessions.getByRole('button', { name: 'End session' }).click();
  await expect(other.getByRole('heading', { name: 'Sign in to Havrel' })).toBeVisible();

  await row.getByRole('button', { name: 'New password…' }).click();
  await page.getByLabel('New password of Shift lead').fill('another-word');
  await page.keyboard.press('Enter');
  await expect(page.getByText('Shift lead has a new password.')).toBeVisible();
  await enter(PASSWORD);
  await expect(other.getByText('The name or the password is wrong.')).toBeVisible();
  await enter('another-word');
  await expect(other.getByRole('heading', { name: 'Your password' })).toBeVisible();

  await row.getByRole('button', { name: 'Disable…' }).click();
  await page.getByRole('alertdialog').getByRole('button', { name: 'Disable', exact: true }).click();
  await expect(row).toContainText('disabled');
  await expect(other.getByRole('heading', { name: 'Sign in to Havrel' })).toBeVisible();
  // Nobody takes the right to manage accounts away from the last one who has it.
  await page.getByLabel(`Role of ${NAME}`).selectOption('viewer');
  await expect(page.getByText('This is the last engineer; make somebody else one first.')).toBeVisible();
  await expect(page.getByLabel(`Role of ${NAME}`)).toHaveValue('engineer');
  await accessibility(page);
});

test('a database server that is killed comes back, and the page says so', async () => {
  const file = join(server.folder, 'cluster/data/postmaster.pid');
  const before = readFileSync(file, 'utf8').split('\n')[0];
  process.kill(Number(before), 'SIGKILL');
  await page.getByRole('navigation').getByRole('link', { name: 'Alarms', exact: true }).click();
  const alarm = page.getByRole('row', { name: /Database server stopped by itself/ });
  await expect(alarm).toContainText('Havrel', { timeout: 30_000 });
  await expect(alarm.getByText(/^back /)).toBeVisible({ timeout: 30_000 });
  await alarm.getByRole('button', { name: 'Acknowledge' }).click();
  await expect(page.getByText('No standing alarms')).toBeVisible();
  await page.getByRole('navigation').getByRole('link', { name: 'Journal', exact: true }).click();
  await expect(page.getByText('Database server runs again')).toBeVisible();
  expect(readFileSync(file, 'utf8').split('\n')[0]).not.toBe(before);
});
