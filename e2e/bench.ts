// Frames and long tasks of the interface on a large, busy plant; run by `./havrel bench`, which reads the line “figures”.

import { expect, type Page, test } from '@playwright/test';
import { NAME, PASSWORD } from './server';

const SECONDS = 6;

interface Smoothness {
  fps: number;
  task: number;
}

/** Counts frames and the longest task, while a box is scrolled if one is named. */
function smoothness(page: Page, box: string | null, seconds = SECONDS): Promise<Smoothness> {
  return page.evaluate(
    ({ seconds, box }) =>
      new Promise<Smoothness>((done) => {
        let task = 0;
        const observer = new PerformanceObserver((list) => {
          for (const entry of list.getEntries()) task = Math.max(task, entry.duration);
        });
        observer.observe({ type: 'longtask' });
        const sheet = box ? document.querySelector(box) : null;
        // Kept here: to read it back would lay out the page once more in each frame, as no wheel does.
        let top = sheet?.scrollTop ?? 0;
        const began = performance.now();
        let frames = 0;
        const frame = () => {
          frames += 1;
          // Four rows a frame: about 240 rows, or seven screens, a second.
          top += 4 * 28;
          if (sheet) sheet.scrollTop = top;
          const passed = performance.now() - began;
          if (passed < seconds * 1000) requestAnimationFrame(frame);
          else {
            observer.disconnect();
            done({ fps: frames / (passed / 1000), task });
          }
        };
        requestAnimationFrame(frame);
      }),
    { seconds, box },
  );
}

/** Frames of a bare list that is scrolled in the same way: what this browser on this machine can do at best. */
function bareList(page: Page): Promise<number> {
  return page.evaluate(
    (seconds) =>
      new Promise<number>((done) => {
        const box = document.createElement('div');
        box.style.cssText = 'position:fixed;inset:300px 20px 100px 260px;overflow:auto;background:white;z-index:99;contain:strict';
        const list = document.createElement('div');
        list.style.cssText = 'position:relative;height:2800000px';
        box.append(list);
        document.body.append(box);
        let top = 500_000;
        box.scrollTop = top;
        const rows = new Map<number, HTMLElement>();
        const began = performance.now();
        let frames = 0;
        const frame = () => {
          frames += 1;
          top += 4 * 28;
          box.scrollTop = top;
          const first = Math.floor(top / 28) - 8;
          for (const [i, row] of rows) {
            if (i >= first && i < first + 32) continue;
            row.remove();
            rows.delete(i);
          }
          for (let i = first; i < first + 32; i += 1) {
            if (rows.has(i)) continue;
            const row = document.createElement('div');
            row.style.cssText = `position:absolute;left:0;right:0;display:grid;grid-template-columns:repeat(6,1fr);height:28px;transform:translateY(${i * 28}px)`;
            for (let c = 0; c < 6; c += 1) row.append(Object.assign(document.createElement('div'), { textContent: `Value ${i} ${c}` }));
            list.append(row);
            rows.set(i, row);
          }
          const passed = performance.now() - began;
          if (passed < seconds * 1000) requestAnimationFrame(frame);
          else {
            box.remove();
            done(frames / (passed / 1000));
          }
        };
        requestAnimationFrame(frame);
      }),
    SECONDS,
  );
}

/** Does something and gives the longest task meanwhile, looking a moment longer. */
async function longest(page: Page, work: () => Promise<unknown>): Promise<number> {
  await page.evaluate(() => {
    const seen = window as unknown as { longest: number; observer: PerformanceObserver };
    seen.longest = 0;
    seen.observer = new PerformanceObserver((list) => {
      for (const entry of list.getEntries()) seen.longest = Math.max(seen.longest, entry.duration);
    });
    seen.observer.observe({ type: 'longtask' });
  });
  await work();
  await page.waitForTimeout(500);
  return page.evaluate(() => (window as unknown as { longest: number }).longest);
}

async function signIn(page: Page) {
  await page.goto(process.env.HAVREL_BENCH_URL ?? '');
  await page.getByLabel('Name').fill(NAME);
  await page.getByLabel('Password').fill(PASSWORD);
  await page.keyboard.press('Enter');
  await expect(page.getByRole('tree', { name: 'Plant' })).toBeVisible();
}

/** Puts edits through the one door, from outside the page, whose own work is measured. */
async function edit(page: Page, edits: unknown[]): Promise<number> {
  const api = `${process.env.HAVREL_BENCH_URL}/api`;
  const { revision } = (await (await page.request.get(`${api}/tree?since=0`)).json()) as { revision: number };
  const headers = { 'if-match': String(revision) };
  const answer = await page.request.post(`${api}/edits`, { headers, data: { why: 'Bench', edits } });
  return answer.status();
}

const tell = (figures: Record<string, number | undefined>) => process.stdout.write(`figures ${JSON.stringify(figures)}\n`);

test('load: how smooth sheets and trends are', async ({ page }) => {
  await signIn(page);
  await page.getByRole('navigation').getByRole('link', { name: 'Model', exact: true }).click();
  const sheet = page.getByRole('grid', { name: 'Tags' });
  await expect(sheet.getByRole('row').nth(5)).toContainText(/\d/);
  await sheet.evaluate((node) => {
    // Where values change.
    node.scrollTop = node.scrollHeight / 5;
  });
  await page.waitForTimeout(1000);
  const scrolled = await smoothness(page, '[role="grid"]');
  await expect(sheet.getByRole('row').nth(5)).toContainText(/\d/);

  const bare = await bareList(page);

  const tags: { id: string; name: string }[] = await page.evaluate(async () => {
    const answer = await fetch('/api/sheets/tags?text=Value+15&count=8');
    return ((await answer.json()) as { rows: { id: string; name: string }[] }).rows;
  });
  const found: number[] = await page.evaluate(async () => {
    const took: number[] = [];
    for (const text of ['value', 'value 42', 'unit 7', '15', 'unit value 9']) {
      const began = performance.now();
      await (await fetch(`/api/find?text=${encodeURIComponent(text)}&limit=20`)).json();
      took.push(performance.now() - began);
    }
    return took.sort((a, b) => a - b);
  });
  // Every line of the plant with its values on one page, still and scrolled.
  await page.goto(`${process.env.HAVREL_BENCH_URL}/board?part=overview`);
  await expect(page.locator('main [data-quality="good"]').first()).toBeVisible({ timeout: 30_000 });
  const shown = page.locator('main [data-quality]');
  await expect.poll(() => shown.count()).toBeGreaterThan(0);
  const values = await shown.count();
  const still = await smoothness(page, null);
  const moved = await smoothness(page, 'main');
  const trend = `${process.env.HAVREL_BENCH_URL}/explore?span=300&tags=${tags.map((t) => t.id).join('%2C')}`;
  await page.goto(trend);
  await expect(page.getByTestId('trend').locator('canvas').first()).toBeVisible();
  await page.waitForTimeout(2000);
  const run = await smoothness(page, null);

  // As much history as an answer ever holds: 5,000 pixels with four points each, and live values at its end.
  await page.route('**/api/history/pixels', async (route) => {
    const asked = route.request().postDataJSON() as { tags: string[]; from: string; to: string };
    const [from, to] = [Date.parse(asked.from), Date.parse(asked.to)];
    const step = ((to - from) * 1e6) / 20_000;
    const column = (n: number) => Array.from({ length: 20_000 }, (_, i) => 50 + 40 * Math.sin((i + 700 * n) / 300) + (i % 7));
    const columns = asked.tags.map((tag, n) => {
      const values = column(n);
      // Each tag has times of its own, as tags have.
      const offset = values.map((_, i) => Math.round((i + n / 8) * step));
      return { tag, offset, minimum: values, maximum: values, last: values, limits: [], by_hand: [] };
    });
    await route.fulfill({ json: { start: asked.from, end: asked.to, complete_until: asked.to, tags: columns } });
  });
  await page.goto(trend);
  await expect(page.getByTestId('trend').locator('canvas').first()).toBeVisible();
  await page.waitForTimeout(3000);
  const large = await smoothness(page, null);
  await page.screenshot({ path: test.info().outputPath('large-trend.png') });
  tell({
    sheet_fps: scrolled.fps,
    sheet_bare: bare,
    sheet_task: scrolled.task,
    board_values: values,
    board_fps: Math.min(still.fps, moved.fps),
    board_task: Math.max(still.task, moved.task),
    trend_fps: run.fps,
    trend_task: run.task,
    large_fps: large.fps,
    large_task: large.task,
    find_ms: found[2],
  });
});

test('load: an intake of ten thousand rows', async ({ page }) => {
  await signIn(page);
  const ids = await page.evaluate(async () => {
    const connections = (await (await fetch('/api/items/connection')).json()) as { items: { id: string; set: { name: string } }[] };
    return connections.items.find((c) => c.set.name === 'Clock')?.id ?? '';
  });
  const [layout, block, member] = [crypto.randomUUID(), crypto.randomUUID(), crypto.randomUUID()];
  const members = [{ id: member, name: 'Word', offset: 0, count: 10_000, stride: 1, point: { type: 'u16' } }];
  const blocks = [{ id: block, name: 'Words', layout, point: { address: 'holding 30000' }, count: 1 }];
  const made = await edit(page, [
    { op: 'create', kind: 'layout', id: layout, set: { name: 'Words', members } },
    { op: 'patch', kind: 'connection', id: ids, set: { blocks } },
  ]);
  expect(made).toBe(200);
  await page.goto(`${process.env.HAVREL_BENCH_URL}/connect?connection=${ids}&part=intake`);
  await page.getByRole('button', { name: 'Choose all 10,000 shown' }).click();
  await page.getByRole('button', { name: 'Add 10,000 rows' }).click();
  const form = page.getByRole('form', { name: 'New tags' });
  const name = form.getByLabel(/^Name of Words 1 Word 1$/);
  await expect(name).toBeVisible();
  const typing = await longest(page, () => name.pressSequentially('Value 1', { delay: 80 }));
  const began = Date.now();
  await page.keyboard.press('Enter');
  await form.getByRole('button', { name: 'Fill 9,999 rows' }).click();
  await expect(form.getByLabel(/^Name of Words 1 Word 3$/)).toHaveValue(/3/);
  const names = Date.now() - began;
  await form.getByLabel('Place for all').fill('Bench / Intake');
  await expect(form.getByRole('button', { name: 'Create 10,000 tags' })).toBeEnabled();
  const scrolled = await smoothness(page, '[aria-label="Rows"]');
  const bare = await bareList(page);
  const start = Date.now();
  await form.getByRole('button', { name: 'Create 10,000 tags' }).click();
  await expect(page.getByText('Created 10,000 tags.', { exact: true })).toBeVisible({ timeout: 60_000 });
  tell({
    intake_fps: scrolled.fps,
    intake_bare: bare,
    intake_task: scrolled.task,
    intake_typing: typing,
    intake_names: names,
    intake_create: (Date.now() - start) / 1000,
  });
});

test('tree: fifty thousand places', async ({ page }) => {
  await signIn(page);
  const tree = page.getByRole('tree', { name: 'Plant' });
  const row = (name: string) => tree.getByRole('treeitem', { name: new RegExp(`^${name}(,|$)`) });
  await expect(row('Area 1')).toBeVisible();
  /** Milliseconds from a deed inside the page until something is drawn. */
  const until = (deed: string, text: string, value: string | null) =>
    page.evaluate(
      ({ deed, text, value }) =>
        new Promise<number>((done) => {
          const began = performance.now();
          const node = document.querySelector<HTMLElement>(deed);
          if (value !== null && node instanceof HTMLInputElement) {
            Object.getOwnPropertyDescriptor(HTMLInputElement.prototype, 'value')?.set?.call(node, value);
            node.dispatchEvent(new Event('input', { bubbles: true }));
          } else node?.click();
          const look = () => {
            const there = Array.from(document.querySelectorAll('[role="treeitem"]')).some((n) => n.getAttribute('aria-label')?.startsWith(text));
            if (there) requestAnimationFrame(() => done(performance.now() - began));
            else requestAnimationFrame(look);
          };
          look();
        }),
      { deed, text, value },
    );
  const open = await until('[aria-label="Open Area 3"]', 'Unit 3-1', null);
  const scrolled = await smoothness(page, '[role="tree"]');
  const bare = await bareList(page);
  const filters: number[] = [];
  // Letter by letter, with what then stands first.
  const letters = [
    ['u', 'Unit 0-0'],
    ['un', 'Unit 0-0'],
    ['unit', 'Unit 0-0'],
    ['unit 4', 'Unit 0-4'],
    ['unit 41', 'Unit 0-41'],
    ['unit 41-7', 'Unit 41-7'],
  ] as const;
  for (const [text, first] of letters) {
    filters.push(await until('[aria-label="Find a place"]', first, text));
    await page.waitForTimeout(200);
  }
  await page.getByLabel('Find a place').fill('Unit 41-7');
  await row('Unit 41-7').click();
  await tree.focus();
  // Out of its area, beside it: the row stands where it was, one step further out.
  const move = await page.evaluate(
    () =>
      new Promise<number>((done) => {
        const began = performance.now();
        const tree = document.querySelector('[role="tree"]');
        tree?.dispatchEvent(new KeyboardEvent('keydown', { key: 'ArrowLeft', altKey: true, bubbles: true }));
        const look = () => {
          const node = Array.from(document.querySelectorAll('[role="treeitem"]')).find((n) => n.getAttribute('aria-label')?.split(',')[0] === 'Unit 41-7');
          if (node?.getAttribute('aria-level') === '2') requestAnimationFrame(() => done(performance.now() - began));
          else requestAnimationFrame(look);
        };
        look();
      }),
  );
  await page.getByLabel('Find a place').fill('');
  // Somebody else moves a place meanwhile.
  const moved = await page.evaluate(async () => {
    const tree = (await (await fetch('/api/tree')).json()) as { places: { id: string; name: string }[] };
    const of = (name: string) => tree.places.find((p) => p.name === name)?.id;
    return { place: of('Unit 7-8'), to: of('Area 9') };
  });
  const after = await longest(page, async () => {
    expect(await edit(page, [{ op: 'patch', kind: 'place', id: moved.place, set: { parent: moved.to } }])).toBe(200);
    await page.waitForTimeout(1500);
  });
  tell({
    tree_fps: scrolled.fps,
    tree_bare: bare,
    tree_task: scrolled.task,
    tree_open: open,
    tree_filter: Math.max(...filters),
    tree_move: move,
    tree_after: after,
  });
});
