// Equipment classes: one is made of vessels that are there, changes them all but for what one says itself, and makes many more.

import { expect, type Page, test } from '@playwright/test';
import { accessibility } from '../accessibility';
import { enter, type Server, start } from '../server';

// Each goes on from what the one before has made.
test.describe.configure({ mode: 'serial' });

let server: Server;
let page: Page;
const thrown: string[] = [];

test.beforeAll(async ({ browser }) => {
  server = await start(['--speed', '4', '--past', '0']);
  page = await (await browser.newContext({ viewport: { width: 1280, height: 800 } })).newPage();
  page.on('pageerror', (error) => thrown.push(error.stack ?? error.message));
  await enter(page, server);
  await page.getByRole('navigation').getByRole('link', { name: 'Model', exact: true }).click();
  await plainVessels();
  await classes();
});

/** Takes the vessels of the demo out of their class, as they are in a plant where nobody has made one yet, and removes the class. */
async function plainVessels() {
  const headers = { Origin: server.url };
  const { places } = await (await page.request.get(`${server.url}/api/tree`)).json();
  for (const { id } of places.filter((p: { name: string }) => p.name.startsWith('EX-'))) {
    const left = await page.request.post(`${server.url}/api/places/${id}/class`, { data: { class: null }, headers });
    expect(left.status()).toBe(200);
  }
  const { classes: all, revision } = await (await page.request.get(`${server.url}/api/classes`)).json();
  const { id } = all.find((c: { name: string }) => c.name === 'Vessel');
  const gone = await page.request.post(`${server.url}/api/edits`, {
    data: { why: 'To be made anew', edits: [{ op: 'delete', kind: 'class', id }] },
    headers: { ...headers, 'If-Match': String(revision) },
  });
  expect(gone.status()).toBe(200);
}

test.afterAll(async () => {
  await page.context().close();
  await server.stop();
  expect(thrown).toEqual([]);
});

const classes = () => page.locator('main button[aria-pressed]').getByText('Classes').click();
const form = () => page.getByRole('form', { name: 'Class Vessel' });
const changes = () => page.getByRole('region', { name: 'What changes' });

/** Opens a place of the plant column, on the page about the place. */
async function place(name: string) {
  await page.getByRole('treeitem', { name, exact: true }).click();
  await page.locator('main button[aria-pressed]').getByText('Place', { exact: true }).click();
}

/** What the plant says of a tag. */
async function tag(text: string): Promise<{ title: string; set: Record<string, unknown>; own?: Record<string, unknown> }> {
  const answer = await page.request.get(`${server.url}/api/items/tag`, { params: { text, limit: 1 } });
  return (await answer.json()).items[0];
}

test('a class is made of a vessel, with the vessels that are like it', async () => {
  const before = await tag('Extraction/EX-2/Temperature setpoint');
  await page.getByRole('button', { name: 'Class from equipment' }).click();
  const made = page.getByRole('form', { name: 'Class from equipment' });
  await made.getByRole('combobox', { name: 'Model' }).pressSequentially('EX-1');
  await page.getByRole('option', { name: /^EX-1/ }).click();
  await expect(made.getByRole('checkbox', { name: /EX-2/ })).toBeChecked();
  await expect(made.getByRole('checkbox', { name: /Leach vessel/ })).toHaveCount(0);
  await made.getByLabel('Name of the class').fill('Vessel');
  await made.getByRole('button', { name: 'Preview class' }).click();
  await expect(made.getByRole('status')).toContainText('15 properties, with the parameters Index, Base, for 4 places.');
  await made.getByRole('button', { name: 'Create class' }).click();
  await expect(form()).toBeVisible();
  await expect(page.getByRole('navigation', { name: 'Classes' })).toContainText('15 properties · 4 instances');
  await expect(form().getByRole('region', { name: 'Instances' })).toContainText('Extraction / EX-3');
  // The tags are what they were; now their class says so.
  const after = await tag('Extraction/EX-2/Temperature setpoint');
  expect({ ...after.set, property: null, order: 0 }).toEqual({ ...before.set, property: null, order: 0 });
  expect(Object.keys(after.own ?? {}).sort()).toEqual(['place', 'property']);
  await accessibility(page);
});

test('a change of the class shows what it changes and what keeps its own, and changes it', async () => {
  await page.goto(`${server.url}/model?at=${(await tag('Extraction/EX-2/Level')).set.place}&part=place`);
  await expect(page.getByRole('region', { name: 'Equipment class' })).toContainText('Vessel');
  // One vessel says its own range.
  await page.locator('main button[aria-pressed]').getByText('Tags').click();
  await page.getByRole('row', { name: /^Level/ }).first().click();
  await page.keyboard.press('Enter');
  const settings = page.getByRole('complementary', { name: 'Inspector' });
  await settings.getByLabel('to', { exact: true }).fill('120');
  await settings.getByRole('button', { name: 'Save settings' }).click();
  await expect(page.getByText('range high is an override')).toBeVisible();
  await page.getByRole('button', { name: 'Open class' }).click();
  await form().getByLabel('Range to of Level', { exact: true }).fill('110');
  await form().getByRole('button', { name: 'Show what changes' }).click();
  const line = changes().getByRole('row', { name: /range to/ });
  await expect(line).toContainText('100 110');
  await expect(line).toContainText('3 tags');
  await expect(line).toContainText('EX-2');
  await form().getByRole('button', { name: 'Change class and 4 instances' }).click();
  await expect(changes()).toBeHidden();
  expect((await tag('Extraction/EX-1/Level')).set.range_high).toBe(110);
  expect((await tag('Extraction/EX-2/Level')).set.range_high).toBe(120);
});

test('what one says itself is listed and put back', async () => {
  await place('EX-2');
  const overrides = page.getByRole('table', { name: 'Overrides' });
  await expect(overrides.getByRole('row', { name: /^Level range to 120 110/ })).toBeVisible();
  await overrides.getByRole('button', { name: 'Put back range to of Level' }).click();
  await expect(overrides.getByRole('row', { name: /^Level range to/ })).toBeHidden();
  expect((await tag('Extraction/EX-2/Level')).set.range_high).toBe(110);
});

test('a computed property names others of the same equipment, and a mistake in it is told', async () => {
  await classes();
  await page.getByRole('navigation', { name: 'Classes' }).getByRole('button', { name: /^Vessel\s*\d/ }).click();
  await form().getByRole('button', { name: 'Property', exact: true }).click();
  await form().getByLabel('Name of property 16').fill('Filled part');
  await form().getByLabel('Kind of Filled part').selectOption('computed');
  await form().getByLabel('Unit of Filled part').fill('%');
  await form().getByRole('textbox', { name: 'Formula' }).fill('own("Lever") / 2');
  await form().getByRole('button', { name: 'Show what changes' }).click();
  await expect(form().getByText('Character 1: The class has no property “Lever”.').first()).toBeVisible();
  // Typed by words, a property is offered first, and shows as a chip.
  await form().getByRole('textbox', { name: 'Formula' }).click();
  await page.keyboard.press('Control+a');
  await page.keyboard.type('lev');
  await expect(page.getByRole('listbox').getByRole('option').first()).toHaveText('Levelproperty');
  await page.keyboard.press('Enter');
  await expect(form().getByRole('textbox', { name: 'Formula' }).getByLabel('property Level', { exact: true })).toBeVisible();
  await page.keyboard.type(' / 2');
  await form().getByRole('button', { name: 'Show what changes' }).click();
  await expect(changes().getByRole('row', { name: /Filled part/ })).toContainText('4 tags added');
  await form().getByRole('button', { name: 'Change class and 4 instances' }).click();
  await expect(changes()).toBeHidden();
  // It runs at once, on each vessel from its own level.
  await page.goto(`${server.url}/model?part=formulas`);
  const line = page.getByRole('grid', { name: 'Computed tags' }).getByRole('row', { name: /^Filled part EX-3/ });
  await expect(line).toContainText(/EX-3 \/ Level.*\d+\.\d\s*%/);
  // A new name of what it reads is followed by the formula, and by the tags.
  await classes();
  await page.getByRole('navigation', { name: 'Classes' }).getByRole('button', { name: /^Vessel\s*\d/ }).click();
  await form().getByLabel('Name of property 1', { exact: true }).fill('Fill level');
  await form().getByLabel('Name of property 2', { exact: true }).focus();
  await form().getByRole('button', { name: 'Show what changes' }).click();
  await expect(changes().getByRole('row', { name: /Fill level name/ })).toContainText('4 tags');
  await form().getByRole('button', { name: 'Change class and 4 instances' }).click();
  await expect(changes()).toBeHidden();
  await form().getByRole('button', { name: 'Details of Filled part' }).click();
  await expect(form().getByRole('textbox', { name: 'Formula' }).getByLabel('property Fill level')).toBeVisible();
});

test('forty vessels are made from one row, seen before, and undone as one', async () => {
  await classes();
  await page.getByRole('button', { name: 'Equipment of a class' }).click();
  const many = page.getByRole('form', { name: 'Equipment of a class' });
  await many.getByRole('combobox', { name: 'Class' }).fill('Vessel');
  await page.getByRole('option', { name: 'Vessel', exact: true }).click();
  await many.getByLabel('Names', { exact: true }).fill('VX-{01..40}');
  await many.getByLabel('Under', { exact: true }).fill('Brackmere Kelp Works/Extraction');
  await many.getByLabel('Index', { exact: true }).fill('{0 by 0}');
  await many.getByRole('button', { name: 'Add rows' }).click();
  await expect(many.getByText('“{0 by 0}” cannot be read.')).toBeVisible();
  await many.getByLabel('Index', { exact: true }).fill('3');
  await many.getByLabel('Base', { exact: true }).fill('{100 by 40}');
  await many.getByRole('button', { name: 'Add rows' }).click();
  await expect(many.getByLabel('Base of row 2', { exact: true })).toHaveValue('140');
  // A name that is taken already is told in its cell.
  await many.getByLabel('Name of row 2', { exact: true }).fill('EX-1');
  await many.getByRole('button', { name: 'Preview' }).click();
  await expect(many.getByText('Row 2, Name: There is already a place “EX-1” here.')).toBeVisible();
  await expect(many.getByLabel('Name of row 2', { exact: true })).toHaveAttribute('aria-invalid', 'true');
  await many.getByLabel('Name of row 2', { exact: true }).fill('VX-02');
  await many.getByRole('button', { name: 'Preview' }).click();
  await expect(many.getByRole('region', { name: 'What is created' })).toContainText('40 places, 640 tags');
  await accessibility(page);
  await many.getByRole('button', { name: 'Create 40 instances' }).click();
  await expect(page.getByText('Created 40 places with 640 tags')).toBeVisible();
  await expect(page.getByRole('navigation', { name: 'Classes' })).toContainText('16 properties · 44 instances');
  const revision = async () => (await (await page.request.get(`${server.url}/api/classes`)).json()).revision;
  const undone = await page.request.post(`${server.url}/api/undo`, {
    data: { revision: await revision() },
    headers: { Origin: server.url, 'If-Match': String(await revision()) },
  });
  expect(undone.status()).toBe(200);
  await expect(page.getByRole('navigation', { name: 'Classes' })).toContainText('16 properties · 4 instances');
});

test('equipment leaves its class with all that it has', async () => {
  await page.reload();
  await place('EX-4');
  await page.getByRole('button', { name: 'Change class…' }).click();
  const dialog = page.getByRole('alertdialog');
  await dialog.getByRole('combobox', { name: 'Class' }).fill('no class');
  await page.getByRole('option', { name: 'no class: keep the tags as they are' }).click();
  await dialog.getByRole('button', { name: 'Change class' }).click();
  await expect(dialog).toBeHidden();
  await expect(page.getByRole('button', { name: 'Change class…' })).toBeHidden();
  const level = await tag('Extraction/EX-4/Fill level');
  expect([level.set.property, level.set.range_high]).toEqual([null, 110]);
});
