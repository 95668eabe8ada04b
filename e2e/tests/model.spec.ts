// The model: a plant built by keyboard and paste, branches moved, tables out and in, and two people in the same row.

import { readFileSync } from 'node:fs';
import { type Browser, type BrowserContext, expect, type Page, test } from '@playwright/test';
import { accessibility } from '../accessibility';
import { NAME, PASSWORD, type Server, start } from '../server';

// Each goes on from what the one before has built.
test.describe.configure({ mode: 'serial' });

let server: Server;
let context: BrowserContext;
let page: Page;
const thrown: string[] = [];

async function open(browser: Browser): Promise<[BrowserContext, Page]> {
  const made = await browser.newContext({ acceptDownloads: true, viewport: { width: 1280, height: 800 } });
  await made.grantPermissions(['clipboard-read', 'clipboard-write'], { origin: server.url });
  const fresh = await made.newPage();
  fresh.on('pageerror', (error) => thrown.push(error.stack ?? error.message));
  await fresh.goto(server.entrance);
  await fresh.getByLabel('Name').fill(NAME);
  await fresh.getByLabel('Password').fill(PASSWORD);
  return [made, fresh];
}

test.beforeAll(async ({ browser }) => {
  server = await start(['--speed', '4', '--past', '0']);
  [context, page] = await open(browser);
  await page.getByRole('button', { name: 'Create account' }).click();
  await expect(page.getByRole('region', { name: 'EX-2' })).toBeVisible();
});

test.afterAll(async () => {
  await context.close();
  await server.stop();
  expect(thrown).toEqual([]);
});

const desk = (name: string) => page.getByRole('navigation').getByRole('link', { name, exact: true }).click();
/** A part of the desk. */
const part = (name: string) => page.locator('main button[aria-pressed]').getByText(name, { exact: true }).click();
const tree = (on = page) => on.getByRole('tree', { name: 'Plant' });
const place = (name: string, on = page) => on.getByRole('treeitem', { name: new RegExp(`^${name}(,|$)`) });
/** The hall stands below everything else; what is out of sight is not drawn. */
const scroll = async (by: number) => {
  await tree().hover();
  await page.mouse.wheel(0, by);
};
const toTheEnd = () => scroll(10_000);
const toTheTop = () => scroll(-10_000);
const grid = (on = page) => on.getByRole('grid', { name: 'Tags' });
const unsaved = (on = page) => on.getByRole('region', { name: 'Not saved yet' });
const count = (words: string, on = page) => expect(on.getByRole('heading', { name: words, exact: true })).toBeVisible();

/** Makes a place under the one that has the focus of the tree, by keyboard. */
async function grow(name: string) {
  await page.keyboard.press('Insert');
  await page.keyboard.type(name);
  await page.keyboard.press('Enter');
  await expect(place(name)).toBeVisible();
}

/** Cells of the column with this head, of the rows that are drawn. */
async function cellsOf(head: string, on = page): Promise<string[]> {
  const heads = await grid(on).getByRole('columnheader').allTextContents();
  const at = heads.indexOf(head);
  const rows = await grid(on).getByRole('rowgroup').getByRole('row').all();
  return Promise.all(rows.map((row) => row.getByRole('gridcell').nth(at).innerText()));
}

test('a plant of 300 tags is built by keyboard and paste only', async () => {
  await desk('Model');
  await place('Brackmere Kelp Works').click();
  await grow('Trial hall');
  await grow('TV-1');
  await page.keyboard.press('Enter');
  await count('0 tags');
  await grid().focus();
  // Columns: tag, place, now, unit, range from, range to, read from, record, limit low, limit high, connection, address, type.
  const lines = Array.from({ length: 30 }, (_, i) =>
    [`Point ${i + 1}`, 'Brackmere Kelp Works/Trial hall/TV-1', '', '%', '0', '100', '', 'no', '', '70000', 'Extraction', `holding ${400 + i}`, 'u16'].join('\t'),
  );
  await page.evaluate((text) => navigator.clipboard.writeText(text), lines.join('\n'));
  await page.keyboard.press('Control+v');
  await expect(unsaved()).toContainText('30 rows, 30 new');
  await page.keyboard.press('Control+s');
  await count('30 tags');
  expect((await cellsOf('Limit high')).slice(0, 2)).toEqual(['70000', '70000']);
  // Nine copies of the vessel; each gets the next free name.
  await place('TV-1').click();
  await page.keyboard.press('Control+c');
  await place('Trial hall').click();
  for (let n = 2; n <= 10; n += 1) {
    await tree().focus();
    await page.keyboard.press('Home');
    await toTheEnd();
    await place('Trial hall').click();
    await page.keyboard.press('Control+v');
    await expect(place(`TV-${n}`)).toBeVisible();
  }
  await count('300 tags');
  // The copies read the same registers: that is found, and counted on with the stride that two cells show.
  await page.getByLabel('Which tags').selectOption('twice');
  await count('300 tags');
  await page.getByLabel('Filter tags').fill('TV-2');
  await count('30 tags');
  const heads = await grid().getByRole('columnheader').allTextContents();
  await grid().focus();
  await page.keyboard.press('Control+Home');
  for (let i = 0; i < heads.indexOf('Address'); i += 1) await page.keyboard.press('ArrowRight');
  await page.keyboard.type('holding 800');
  await page.keyboard.press('Enter');
  await page.keyboard.type('holding 802');
  await page.keyboard.press('Enter');
  await page.keyboard.press('Control+Home');
  for (let i = 0; i < heads.indexOf('Address'); i += 1) await page.keyboard.press('ArrowRight');
  await page.keyboard.press('Control+Shift+d');
  await expect(unsaved()).toContainText('30 cells in 30 rows');
  expect((await cellsOf('Address')).slice(0, 3)).toEqual(['holding 800', 'holding 802', 'holding 804']);
  await page.keyboard.press('Control+s');
  await expect(unsaved()).toHaveCount(0);
  await count('0 tags');
  await page.getByLabel('Which tags').selectOption('all');
  await page.getByLabel('Filter tags').fill('');
  await count('300 tags');
});

test('what is wrong is told at its cell, and a stroke goes back', async () => {
  await grid().focus();
  await page.keyboard.press('Control+Home');
  const heads = await grid().getByRole('columnheader').allTextContents();
  for (let i = 0; i < heads.indexOf('Range to'); i += 1) await page.keyboard.press('ArrowRight');
  await page.keyboard.type('nothing');
  await page.keyboard.press('Escape');
  await expect(unsaved()).toHaveCount(0);
  await page.keyboard.type('much');
  await page.keyboard.press('Enter');
  await page.keyboard.type('80');
  await page.keyboard.press('Enter');
  await expect(unsaved()).toContainText('“much” is not a number');
  await expect(unsaved().getByRole('button', { name: 'Save 2 rows' })).toBeDisabled();
  await unsaved().getByRole('button', { name: 'Discard this row' }).click();
  await expect(unsaved()).toContainText('1 cell in 1 row');
  await unsaved().getByRole('button', { name: 'Save 1 row' }).click();
  await expect(page.getByText('Saved 1 tag.')).toBeVisible();
  expect((await cellsOf('Range to'))[1]).toBe('80');
  await page.getByRole('button', { name: 'Undo', exact: true }).first().click();
  await expect(page.getByText('Undone.')).toBeVisible();
  await expect.poll(async () => (await cellsOf('Range to'))[1]).toBe('100');
});

test('find and replace shows what it would do, and columns and filter are kept under a name', async () => {
  await page.getByLabel('Filter tags').fill('TV-3');
  await count('30 tags');
  await page.getByRole('button', { name: 'Replace', exact: true }).click();
  const form = page.getByRole('form', { name: 'Find and replace' });
  await form.getByLabel('Find', { exact: true }).fill('point 1');
  await form.getByLabel('Replace with').fill('Probe 1');
  await expect(form).toContainText('11 cells of 30 rows would change');
  await form.getByRole('button', { name: 'Write 11 cells' }).click();
  await expect(unsaved()).toContainText('11 cells in 11 rows');
  await unsaved().getByRole('button', { name: 'Save 11 rows' }).click();
  await expect(unsaved()).toHaveCount(0);
  expect(await cellsOf('Tag')).toContain('Probe 19');

  await page.getByRole('button', { name: 'Columns' }).click();
  await page.getByRole('checkbox', { name: 'Deadband', exact: true }).click();
  await page.keyboard.press('Escape');
  await page.getByRole('button', { name: 'Views' }).click();
  await page.getByLabel('Save these columns, filter and order as').fill('Probes of TV-3');
  await page.getByRole('button', { name: 'Save', exact: true }).click();
  await expect(page.getByRole('list', { name: 'Saved views' })).toContainText('Probes of TV-3');
  await page.reload();
  await expect(grid()).toBeVisible();
  await expect(grid().getByRole('columnheader', { name: 'Deadband', exact: true })).toHaveCount(0);
  await page.getByRole('button', { name: 'Views' }).click();
  await page.getByRole('button', { name: /^Probes of TV-3/ }).click();
  await expect(grid().getByRole('columnheader', { name: 'Deadband', exact: true })).toHaveCount(1);
  await expect(page.getByLabel('Filter tags')).toHaveValue('TV-3');
  await page.getByLabel('Filter tags').fill('');
});

test('a branch is dragged, and its alarm and its trend go with it', async () => {
  const seen = async () => (await (await page.request.get(`${server.url}/api/tree`)).json()).revision as number;
  const level = (await (await page.request.get(`${server.url}/api/find?text=EX-1/Level`)).json()).found[0].id as string;
  const rule = { op: 'create', kind: 'rule', id: '01990000-0000-7000-8000-000000000001', set: { tag: level, kind: 'low', level: 1000, priority: 4 } };
  const made = await page.request.post(`${server.url}/api/edits`, {
    headers: { 'if-match': String(await seen()), origin: server.url },
    data: { why: 'A rule that holds', edits: [rule] },
  });
  expect(made.status()).toBe(200);
  await expect(place('EX-1')).toHaveAccessibleName(/in alarm/);
  // A window in which both ends of the drag are in sight.
  await page.setViewportSize({ width: 1280, height: 1600 });
  await place('EX-1').dragTo(place('Trial hall'), { targetPosition: { x: 60, y: 13 } });
  await expect.poll(async () => ((await (await page.request.get(`${server.url}/api/find?text=EX-1/Level`)).json()).found[0].title)).toBe(
    'Brackmere Kelp Works/Trial hall/EX-1/Level',
  );
  await expect(place('Trial hall')).toHaveAccessibleName(/1 in alarm/);
  await place('Trial hall').click();
  await page.setViewportSize({ width: 1280, height: 800 });
  await desk('Alarms');
  await expect(page.getByRole('row', { name: /Level low/ })).toBeVisible();
  await page.goto(`${server.url}/explore?tags=${level}`);
  await expect(page.getByRole('main')).toContainText('EX-1');
  await expect(page.getByRole('main')).toContainText('Level');
  // The same by keyboard: out of the hall, behind it, then up in front of it.
  await desk('Model');
  await toTheEnd();
  await place('EX-1').click();
  await page.keyboard.press('Alt+ArrowLeft');
  await expect(place('EX-1')).toHaveAttribute('aria-level', '2');
  const order = () => tree().getByRole('treeitem').allInnerTexts();
  const before = (await order()).findIndex((t) => t.startsWith('EX-1'));
  await page.keyboard.press('Alt+ArrowUp');
  await expect.poll(async () => (await order()).findIndex((t) => t.startsWith('EX-1'))).toBeLessThan(before);
  // Under itself it cannot go.
  await page.keyboard.press('Control+x');
  await page.keyboard.press('Control+v');
  await expect(page.getByText('A place cannot go under itself.')).toBeVisible();
});

test('a branch goes out of service and comes back a few tags at a time', async () => {
  await place('Trial hall').click({ button: 'right' });
  await page.getByRole('menuitem', { name: 'Take Trial hall out of service' }).click();
  await expect(place('Trial hall')).toHaveAccessibleName(/out of service/);
  await expect(place('TV-4')).toHaveAccessibleName(/out of service/);
  await place('TV-4').click();
  await page.getByLabel('Which tags').selectOption('idle');
  await count('30 tags');
  await expect(grid().getByRole('gridcell').filter({ hasText: '⨯' }).first()).toBeVisible();
  await page.getByLabel('Which tags').selectOption('all');
  await place('Trial hall').click({ button: 'right' });
  await page.getByRole('menuitem', { name: 'Put Trial hall into service' }).click();
  await expect(place('TV-4')).not.toHaveAccessibleName(/out of service/);
});

test('it is told where a tag and a place are used, with the way there', async () => {
  await toTheTop();
  await place('EX-2').click();
  await part('Place');
  const used = page.getByRole('region', { name: 'Where used' });
  await used.getByRole('button', { name: /^Report “Shift summary” uses/ }).first().click();
  await expect(page).toHaveURL(/reports\?.*report=/);
  await desk('Model');
});

test('limits are written in the sheet, for several tags at once', async () => {
  await place('EX-3').click();
  await part('Tags');
  await page.getByLabel('Filter tags').fill('setpoint');
  await count('3 tags');
  const heads = await grid().getByRole('columnheader').allTextContents();
  await grid().focus();
  await page.keyboard.press('Control+Home');
  for (let i = 0; i < heads.indexOf('Limit high'); i += 1) await page.keyboard.press('ArrowRight');
  await page.keyboard.type('91,5');
  await page.keyboard.press('Enter');
  await page.keyboard.press('ArrowUp');
  await page.keyboard.press('Shift+ArrowDown');
  await page.keyboard.press('Shift+ArrowDown');
  await page.keyboard.press('Control+d');
  await page.keyboard.press('Control+s');
  await expect(unsaved()).toHaveCount(0);
  expect((await cellsOf('Limit high')).slice(0, 3)).toEqual(['91.5', '91.5', '91.5']);
  // Emptied, the rule goes; the others stay.
  await page.keyboard.press('Delete');
  await page.keyboard.press('Control+s');
  await expect(unsaved()).toHaveCount(0);
  await expect.poll(async () => (await cellsOf('Limit high')).filter(Boolean).length).toBe(0);
  await page.getByLabel('Filter tags').fill('');
});

test('a table goes out, is edited, compared, taken in and undone', async () => {
  await desk('Model');
  await toTheTop();
  await place('Reception hopper').click();
  await part('Files');
  const [download] = await Promise.all([page.waitForEvent('download'), page.getByRole('link', { name: 'Tags.csv' }).click()]);
  const text = readFileSync((await download.path()) ?? '', 'utf8');
  const lines = text.split('\r\n');
  expect(lines[0]).toContain('id,place,name,unit');
  expect(lines.length).toBe(7);
  const edited = [lines[0], ...lines.slice(1, -2).map((l) => l.replace(',Level,', ',Liquor level,')), ',Brackmere Kelp Works/Landing/Reception hopper,Foam,mm'.padEnd(60, ',')];
  // A row with too few cells is told with its line, and nothing is taken in.
  const choose = (body: string) =>
    page.getByLabel('File to compare').setInputFiles({ name: 'tags.csv', mimeType: 'text/csv', buffer: Buffer.from(body) });
  await page.getByRole('checkbox', { name: /Delete what the file lacks/ }).click();
  await choose(`${lines[0]}\r\nx,y\r\n`);
  const cells = lines[0]?.split(',').length ?? 0;
  await expect(page.getByRole('row', { name: `2 This row has 2 cells, the head names ${cells}` })).toBeVisible();
  edited[edited.length - 1] = `,Brackmere Kelp Works/Landing/Reception hopper,Foam,mm${','.repeat(cells - 4)}`;
  await choose(edited.filter(Boolean).join('\r\n'));
  const difference = page.getByRole('region', { name: 'Difference of tags.csv' });
  await expect(difference).toContainText(/1 tag added; .*1 tag removed/);
  await expect(difference.getByRole('list', { name: 'Differences' })).toContainText('Foam');
  await difference.getByRole('button', { name: /^Apply \d+ changes/ }).click();
  await expect(page.getByText(/tags.csv is imported as revision/)).toBeVisible();
  await desk('Journal');
  await page.getByRole('button', { name: /^Imported tags\.csv · revision/ }).first().click();
  await page.getByRole('button', { name: /^Undo revision \d+…/ }).click();
  await page.getByRole('alertdialog').getByRole('button', { name: 'Undo' }).click();
  await desk('Model');
  await count('5 tags');
  await expect.poll(async () => (await cellsOf('Tag')).includes('Foam')).toBe(false);
});

test('two people write in the same row: both see it, and nothing is overwritten unseen', async ({ browser }) => {
  const [second, other] = await open(browser);
  await other.getByRole('button', { name: 'Sign in' }).click();
  await expect(tree(other)).toBeVisible();
  const at = new URL(page.url()).searchParams.get('at');
  await other.goto(`${server.url}/model?at=${at}`);
  await expect(grid(other).getByRole('gridcell').first()).toBeVisible();
  const write = async (on: Page, head: string, text: string) => {
    const heads = await grid(on).getByRole('columnheader').allTextContents();
    await grid(on).focus();
    await on.keyboard.press('Control+Home');
    for (let i = 0; i < heads.indexOf(head); i += 1) await on.keyboard.press('ArrowRight');
    await on.keyboard.type(text);
    await on.keyboard.press('Enter');
  };
  await write(page, 'Unit', 'cm');
  await write(page, 'Range to', '90');
  await write(other, 'Unit', 'mm');
  await other.keyboard.press('Control+s');
  await expect(unsaved(other)).toHaveCount(0);
  // The first sees it come in while typing, with both values to choose from.
  await expect(unsaved()).toContainText('Somebody else has changed this meanwhile.');
  await expect(unsaved()).toContainText('Theirs is mm, yours cm.');
  await expect(unsaved().getByRole('button', { name: 'Save 1 row' })).toBeDisabled();
  await unsaved().getByRole('button', { name: 'Use theirs' }).click();
  await unsaved().getByRole('button', { name: 'Save 1 row' }).click();
  await expect(unsaved()).toHaveCount(0);
  expect([(await cellsOf('Unit'))[0], (await cellsOf('Range to'))[0]]).toEqual(['mm', '90']);
  // And the second sees the other cell without doing anything.
  await expect.poll(async () => (await cellsOf('Range to', other))[0]).toBe('90');
  await second.close();
});

test('two people change the same settings: what was typed stays, and theirs is there to choose', async ({ browser }) => {
  const [second, other] = await open(browser);
  await other.getByRole('button', { name: 'Sign in' }).click();
  await expect(tree(other)).toBeVisible();
  const layout = async (on: Page) => {
    await on.goto(`${server.url}/connect?connection=layouts`);
    await on.getByRole('button', { name: /^Extraction vessel/ }).click();
  };
  const member = (i: number, on = page) => on.getByRole('textbox', { name: /^Name of (?!the layout)/ }).nth(i);
  const save = (on: Page) => on.getByRole('button', { name: 'Save layout' }).click();
  await layout(page);
  await layout(other);
  await page.getByLabel('Name of the layout').fill('Vessel, one');
  await member(0).fill('Mine');
  await member(0, other).fill('Theirs');
  await save(other);
  await expect(page.getByRole('alert')).toContainText('Somebody else has changed the members meanwhile');
  await expect(member(0)).toHaveValue('Mine');
  await page.getByRole('button', { name: 'Use theirs' }).click();
  await expect(member(0)).toHaveValue('Theirs');
  await expect(page.getByLabel('Name of the layout')).toHaveValue('Vessel, one');
  await save(page);
  await expect(page.getByRole('button', { name: /^Vessel, one/ })).toContainText('Theirs');
  // The other form, still open, has the name by now.
  await expect(other.getByLabel('Name of the layout')).toHaveValue('Vessel, one');

  // A connection's form too; what only one of them changed comes in by itself.
  for (const on of [page, other]) {
    await on.goto(`${server.url}/connect`);
    const wash = on.getByRole('region', { name: 'Connection Wash' });
    await wash.getByRole('button', { name: /^Wash/ }).click();
    await wash.getByRole('button', { name: 'Settings and test' }).click();
  }
  const form = (on: Page) => on.getByRole('button', { name: 'Save connection' });
  await page.getByLabel('Timeout, ms').fill('1500');
  await other.getByLabel('Timeout, ms').fill('1700');
  await other.getByLabel('Poll interval, ms').first().fill('1200');
  await form(other).click();
  await expect(page.getByText('Somebody else has set this to “1700” meanwhile; saving replaces it with yours.')).toBeVisible();
  await expect(page.getByLabel('Poll interval, ms').first()).toHaveValue('1200');
  await form(page).click();
  await expect(other.getByLabel('Timeout, ms')).toHaveValue('1500');
  await expect(page.getByText('Somebody else has set this')).toHaveCount(0);
  await second.close();
  await desk('Model');
  await place('Brackmere Kelp Works').click();
});

for (const theme of ['light', 'dark'] as const) {
  test(`the parts of the model are accessible, ${theme}`, async () => {
    await page.emulateMedia({ colorScheme: theme });
    for (const name of ['Place', 'Files', 'Tags']) {
      await part(name);
      await accessibility(page, theme);
    }
  });
}
