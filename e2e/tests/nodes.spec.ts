// OPC UA in the hands of an engineer: a login that fails and is mended, nodes browsed and taken, values that go away and come back.

import { expect, type Page, test } from '@playwright/test';
import { accessibility } from '../accessibility';
import { enter, type Server, start } from '../server';

// Each goes on where the one before ended.
test.describe.configure({ mode: 'serial' });

let server: Server;
let page: Page;
let url = '';
const thrown: string[] = [];

test.beforeAll(async ({ browser }) => {
  server = await start(['--speed', '4', '--past', '0', '--port', '8426']);
  page = await (await browser.newContext()).newPage();
  page.on('pageerror', (error) => thrown.push(error.stack ?? error.message));
  await enter(page, server);
  await page.getByRole('navigation').getByRole('link', { name: 'Connect', exact: true }).click();
  const shown = await page.getByRole('button', { name: /^Dryline/ }).textContent();
  url = /opc\.tcp:\/\/[\d.:]+?\d{4}/.exec(shown ?? '')?.[0] ?? '';
  expect(url).toContain('127.0.0.1');
});

test.afterAll(async () => {
  await page.context().close();
  await server.stop();
  expect(thrown).toEqual([]);
});

const tree = () => page.getByRole('tree', { name: 'Nodes of the server' });
const node = (name: string) => tree().getByRole('treeitem', { name: new RegExp(name) });

test('a login that fails says why, and passes once it is mended', async () => {
  await page.getByRole('button', { name: 'Add connection' }).click();
  await page.getByLabel('Kind').selectOption('opcua');
  await page.getByLabel('Name', { exact: true }).fill('Dryline as operator');
  await page.getByLabel('Address', { exact: true }).fill(url);
  await page.getByLabel('Log in').selectOption('user');
  await page.getByLabel('User name').fill('operator');
  await page.getByLabel('Password').fill('guess');
  await page.getByRole('button', { name: 'Test', exact: true }).click();
  const ladder = page.getByRole('list', { name: 'Test' });
  await expect(ladder).toContainText('signed and encrypted, Aes256_Sha256_RsaPss');
  await expect(ladder).toContainText('Check how Havrel logs in, its user name and its password.');
  await page.getByLabel('Password').fill('kelp');
  await page.getByRole('button', { name: 'Test', exact: true }).click();
  await expect(ladder).toContainText('All steps passed.');
  await expect(ladder).toContainText('the server is running');
  await page.getByRole('button', { name: 'Add this connection' }).click();
  const line = page.getByRole('region', { name: 'Connection Dryline as operator' });
  await expect(line).toContainText('running', { timeout: 30_000 });
});

test('nodes are browsed by keyboard, with what the server says of them', async () => {
  await page.getByRole('button', { name: /^Dryline opc/ }).click();
  await expect(node('Packing')).toBeVisible();
  await tree().focus();
  for (let i = 0; i < 8 && (await node('Packing').getAttribute('class'))?.includes('bg-tint') === false; i += 1) {
    await page.keyboard.press('ArrowDown');
  }
  await page.keyboard.press('ArrowRight');
  await expect(node('Bagging machine')).toBeVisible();
  await page.keyboard.press('ArrowDown');
  await page.keyboard.press('ArrowRight');
  const setpoint = node('Bag setpoint');
  await expect(setpoint).toContainText('25.0');
  await expect(setpoint).toContainText('kg');
  await expect(setpoint).toContainText('5 to 30');
  await expect(setpoint).toContainText('write');
  await expect(node('State')).toContainText(/Stopped|Filling|Sealing|Waiting/);
  await page.keyboard.press('ArrowDown');
  await page.keyboard.press(' ');
  await expect(page.getByRole('button', { name: 'Add 1 row' })).toBeEnabled();
  await accessibility(page);
});

test('everything below a node becomes tags with the places, units and state names of the server', async () => {
  await page.getByRole('button', { name: 'Choose all below Packing' }).click();
  await page.getByRole('button', { name: 'Add 20 rows' }).click();
  const form = page.getByRole('form', { name: 'New tags' });
  await expect(form).toContainText('No errors.');
  await expect(form).toContainText('5 new places');
  await form.getByLabel('Record all').check();
  await form.getByLabel('High limit of Packing / Silo 2 / Level').fill('1');
  await form.getByRole('button', { name: 'Create 20 tags' }).click();
  const machine = page.getByRole('region', { name: 'Bagging machine' });
  await expect(machine.getByRole('listitem').filter({ hasText: 'Bag setpoint' })).toContainText('25.0');
  await expect(machine.getByRole('listitem').filter({ hasText: 'State' })).toContainText(/Filling|Sealing|Waiting/);
  await expect(page.getByRole('contentinfo')).toContainText('Level');
  // What is a tag now is marked, and not offered again.
  await page.getByRole('navigation').getByRole('link', { name: 'Connect', exact: true }).click();
  await page.getByRole('button', { name: /^Dryline opc/ }).click();
  await page.getByRole('button', { name: 'Choose all below Packing' }).click();
  await expect(page.getByText('Chose 0 values below Packing; 20 more are tags already.')).toBeVisible();
});

test('a member of a structure is a tag of its own, and a method is called from its tag', async () => {
  for (const name of ['Packing', 'Bagging machine', 'Pallet']) await page.getByRole('button', { name: `Open ${name}`, exact: true }).click();
  await expect(node('Reset counter')).toContainText('call');
  await tree().getByLabel('Choose Number').check();
  await tree().getByLabel('Choose Reset counter').check();
  await page.getByRole('button', { name: 'Add 2 rows' }).click();
  await page.getByRole('button', { name: 'Create 2 tags' }).click();
  const machine = page.getByRole('region', { name: 'Bagging machine' });
  await expect(machine.getByRole('listitem').filter({ hasText: /^Number/ })).toContainText(/60\d\d/);
  await machine.getByRole('button', { name: 'Reset counter' }).click();
  const inspector = page.getByRole('complementary').filter({ hasText: 'Reset counter' });
  await inspector.getByLabel('From (UInt32)').fill('-5');
  await inspector.getByRole('button', { name: 'Call…' }).click();
  await page.getByRole('button', { name: 'Call it' }).click();
  await expect(inspector).toContainText('“From” does not fit');
  await inspector.getByLabel('From (UInt32)').fill('900');
  await inspector.getByRole('button', { name: 'Call…' }).click();
  await expect(page.getByRole('alertdialog')).toContainText('Call Reset counter with From 900?');
  await page.getByRole('button', { name: 'Call it' }).click();
  await expect(inspector).toContainText(/Called; the answer is \d+\./);
  await expect(machine.getByRole('listitem').filter({ hasText: /^Bags\d/ })).toContainText('90');
  await accessibility(page);
});

test('the same is chosen in every object of a type, and nodes are found by words', async () => {
  await page.getByRole('navigation').getByRole('link', { name: 'Connect', exact: true }).click();
  await page.getByRole('button', { name: 'Dryline as operator' }).click();
  for (const name of ['Drying', 'Belt dryer', 'Zone 2']) await page.getByRole('button', { name: `Open ${name}`, exact: true }).click();
  await tree().getByLabel('Choose Humidity').check();
  await page.getByRole('button', { name: 'Choose the same in every ZoneType' }).click();
  await expect(page.getByText('Chose 4 values of 4 objects of the type ZoneType.')).toBeVisible();
  await expect(page.getByRole('button', { name: 'Add 4 rows' })).toBeEnabled();
  await tree().focus();
  await page.keyboard.press('Escape');
  await page.getByLabel('Find below the server').fill('zone3 temp');
  await page.keyboard.press('Enter');
  await expect(page.getByText('2 nodes below the server with “zone3 temp”.')).toBeVisible();
  await expect(tree().getByRole('treeitem')).toHaveCount(2);
  await expect(tree().getByRole('treeitem').first()).toContainText('Drying / Belt dryer / Zone 3 / Temperature');
  await accessibility(page);
  await page.getByRole('button', { name: 'Show the tree' }).click();
  await page.getByRole('button', { name: 'Choose none' }).click();
});

test('a cut cable is told at the connection and at the tags, and all comes back', async () => {
  await page.getByRole('link', { name: 'Demo faults' }).click();
  const group = page.getByRole('region', { name: 'Server Dryline' });
  await group.getByRole('button', { name: 'Cut the cable' }).click();
  await expect(page.getByRole('contentinfo')).toContainText('9 of 11 connections', { timeout: 30_000 });
  await page.getByRole('button', { name: 'End all' }).click();
  await expect(page.getByRole('contentinfo')).toContainText('11 of 11 connections', { timeout: 60_000 });
  await group.getByRole('button', { name: 'Restart' }).click();
  // The two sessions need not be away at the same moment.
  await expect(page.getByRole('contentinfo')).toContainText(/(9|10) of 11 connections/, { timeout: 30_000 });
  await expect(page.getByRole('contentinfo')).toContainText('11 of 11 connections', { timeout: 60_000 });
});
