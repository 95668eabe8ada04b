// The operator's board: areas in short, figures over like equipment, parts on the card of their equipment, one command to several.

import { expect, type Page, test } from '@playwright/test';
import { accessibility } from '../accessibility';
import { enter, type Server, start } from '../server';

test.describe.configure({ mode: 'serial' });

let server: Server;
let page: Page;
const thrown: string[] = [];

test.beforeAll(async ({ browser }) => {
  server = await start(['--speed', '4', '--past', '0']);
  page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();
  page.on('pageerror', (error) => thrown.push(error.stack ?? error.message));
  await enter(page, server);
});

test.afterAll(async () => {
  await page.context().close();
  await server.stop();
  expect(thrown).toEqual([]);
});

const area = (name: string) => page.getByRole('region', { name: `Area ${name}` });
const line = (name: string) => page.getByRole('region', { name, exact: true });
const several = () => page.getByRole('region', { name: 'Command several' });

test('the plant is shown by its areas, with what their classes call main and what like machines come to', async () => {
  await expect(page.getByText('6 areas · 25 pieces of equipment')).toBeVisible();
  // Agitators of two classes that extend one: the parts of the vessels, and the one of the leach vessel.
  await expect(area('Extraction')).toContainText(/Agitator · Running\s*[0-5]\s*of 5/);
  await expect(area('Utilities')).toContainText(/Meter · Power, sum\s*\d+\.\d\s*kW/);
  await expect(line('EX-3').getByRole('listitem')).toHaveText([/^Level.*%/, /^Temperature.*°C/, /^pH/, /^Phase/, /^RunKX-/]);
  // Of no class: its first values.
  await expect(line('Conveyor').getByRole('listitem').first()).toHaveText(/^Belt speed.*m\/min/);
  await accessibility(page);
});

test('an area opens by its name, and a part stands on the card of its equipment', async () => {
  await area('Landing').getByRole('button', { name: 'Landing', exact: true }).click();
  await expect(page.getByRole('heading', { name: 'Landing' })).toBeVisible();
  await expect(page.getByText('area · 4 pieces of equipment')).toBeVisible();
  await line('Wash tank 1').getByRole('button', { name: 'Wash tank 1' }).click();
  const card = page.getByRole('region', { name: 'Wash tank 1' });
  const pump = card.getByRole('region', { name: 'Pump' });
  await expect(pump).toContainText(/Current\s*\d+\.\d\s*A.*Tripped\s*off/);
  await expect(card.getByRole('region', { name: 'Drain valve' })).toContainText('Position');
  await accessibility(page);
  await pump.getByRole('button', { name: 'Pump' }).click();
  await expect(page.getByRole('heading', { name: 'Pump', level: 1 })).toBeVisible();
});

test('several vessels take one command, each with its own outcome', async () => {
  // One of them may take less than the others.
  const own = async (title: string) => {
    const answer = await page.request.get(`${server.url}/api/items/tag`, { params: { text: title, limit: 1 } });
    return (await answer.json()) as { revision: number; items: { id: string; no: number }[] };
  };
  const { revision, items } = await own('Extraction/EX-2/Fill setpoint');
  const edited = await page.request.post(`${server.url}/api/edits`, {
    data: { why: 'Leaks above', edits: [{ op: 'patch', kind: 'tag', id: items[0]?.id, set: { write_high: 60 } }] },
    headers: { Origin: server.url, 'If-Match': String(revision) },
  });
  expect(edited.status()).toBe(200);
  await page.getByRole('treeitem', { name: 'Extraction', exact: true }).click();
  await page.getByRole('button', { name: 'Overview' }).click();
  await page.getByRole('button', { name: 'Command several…' }).click();
  await several().getByLabel('Command or setting').selectOption({ label: 'Vessel · Fill setpoint, 4 machines' });
  await several().getByLabel('New value, %').fill('140');
  await several().getByRole('button', { name: 'Write to 4…' }).click();
  await expect(several().getByText('It must lie between 20 and 95 %.')).toBeVisible();
  await several().getByLabel('New value, %').fill('71.5');
  await several().getByRole('checkbox', { name: 'Extraction / EX-4' }).click();
  await several().getByRole('button', { name: 'Write to 3…' }).click();
  const question = page.getByRole('alertdialog');
  await expect(question).toContainText('Vessel · Fill setpoint of Extraction / EX-1; Extraction / EX-2; Extraction / EX-3.');
  await question.getByRole('button', { name: 'Write to 3' }).click();
  await expect(several().getByRole('status')).toHaveText('2 of 3 machines written and read back.');
  const row = (name: string) => several().getByRole('listitem').filter({ hasText: name });
  await expect(row('EX-1')).toContainText('written and read back');
  await expect(row('EX-2')).toContainText('not written: It must lie between 20 and 60 %.');
  await expect(row('EX-3')).toContainText(/71\.5\s*%/);
  await expect(row('EX-4')).not.toContainText('written');
  await accessibility(page);
});

test('a cable that is cut is told once, and figures say what they miss', async () => {
  await page.getByRole('link', { name: 'Demo faults' }).click();
  const wash = page.getByRole('region', { name: 'Controller Wash' });
  await wash.getByRole('button', { name: 'Cut the cable' }).click();
  await page.getByRole('navigation').getByRole('link', { name: 'Board', exact: true }).click();
  await page.getByRole('button', { name: 'Whole plant' }).click();
  await page.getByRole('button', { name: 'Overview' }).click();
  await expect(page.getByText(/Wash: No data since/)).toHaveCount(1, { timeout: 30_000 });
  await expect(area('Landing').getByRole('img', { name: '2 values of 2 missing' }).first()).toBeVisible({ timeout: 30_000 });
  await expect(area('Extraction').getByRole('img', { name: /missing/ })).toHaveCount(0);
});

test('on a wall the board shows itself page by page, and what becomes urgent first', async () => {
  await page.getByRole('button', { name: 'Wall' }).click();
  await expect(page.getByRole('navigation', { name: 'Desks' })).toBeHidden();
  await expect(page.getByRole('tree')).toHaveCount(0);
  await accessibility(page);
  await page.goto(`${server.url}/board?part=wall&span=2`);
  // With nobody near it, the last area comes into sight, and then the first again.
  await expect(page.getByText(/page \d of \d/)).toBeVisible();
  await expect(area('Utilities')).toBeInViewport({ timeout: 30_000 });
  await expect(area('Landing').getByRole('heading', { name: 'Landing' })).toBeInViewport({ timeout: 30_000 });
  await page.getByRole('button', { name: 'Leave wall' }).click();
  await expect(page.getByRole('navigation', { name: 'Desks' })).toBeVisible();
  await expect(page.getByRole('tree')).toBeVisible();
});
