// Frames and long tasks of the interface on a large, busy plant; run by `./havrel bench`, which reads the line “figures”.

import { expect, type Page, test } from '@playwright/test';
import { NAME, PASSWORD } from './server';

const SECONDS = 6;

interface Smoothness {
  fps: number;
  task: number;
}

/** Counts frames and the longest task while something is done in each frame. */
function smoothness(page: Page, scroll: boolean): Promise<Smoothness> {
  return page.evaluate(
    ({ seconds, scroll }) =>
      new Promise<Smoothness>((done) => {
        let task = 0;
        const observer = new PerformanceObserver((list) => {
          for (const entry of list.getEntries()) task = Math.max(task, entry.duration);
        });
        observer.observe({ type: 'longtask' });
        const sheet = document.querySelector('[role="grid"]');
        const began = performance.now();
        let frames = 0;
        const frame = () => {
          frames += 1;
          // Four rows a frame: about 240 rows, or seven screens, a second.
          if (scroll && sheet) sheet.scrollTop += 4 * 28;
          const passed = performance.now() - began;
          if (passed < seconds * 1000) requestAnimationFrame(frame);
          else {
            observer.disconnect();
            done({ fps: frames / (passed / 1000), task });
          }
        };
        requestAnimationFrame(frame);
      }),
    { seconds: SECONDS, scroll },
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
        box.scrollTop = 500_000;
        const rows = new Map<number, HTMLElement>();
        const began = performance.now();
        let frames = 0;
        const frame = () => {
          frames += 1;
          box.scrollTop += 4 * 28;
          const first = Math.floor(box.scrollTop / 28) - 8;
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

test('how smooth it is', async ({ page }) => {
  await page.goto(process.env.HAVREL_BENCH_URL ?? '');
  await page.getByLabel('Name').fill(NAME);
  await page.getByLabel('Password').fill(PASSWORD);
  await page.keyboard.press('Enter');
  await page.getByRole('navigation').getByRole('link', { name: 'Model', exact: true }).click();
  const sheet = page.getByRole('grid', { name: 'Tags' });
  await expect(sheet.getByRole('row').nth(5)).toContainText(/\d/);
  await sheet.evaluate((node) => {
    // Where values change.
    node.scrollTop = node.scrollHeight / 5;
  });
  await page.waitForTimeout(1000);
  const scrolled = await smoothness(page, true);
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
  await page.goto(`${process.env.HAVREL_BENCH_URL}/explore?span=300&tags=${tags.map((t) => t.id).join('%2C')}`);
  await expect(page.getByTestId('trend').locator('canvas').first()).toBeVisible();
  await page.waitForTimeout(2000);
  const run = await smoothness(page, false);
  const figures = {
    sheet_fps: scrolled.fps,
    sheet_bare: bare,
    sheet_task: scrolled.task,
    trend_fps: run.fps,
    trend_task: run.task,
    find_ms: found[2],
  };
  process.stdout.write(`figures ${JSON.stringify(figures)}\n`);
});
