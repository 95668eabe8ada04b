// What a page lacks of WCAG 2.1, levels A and AA.

import { AxeBuilder } from '@axe-core/playwright';
import { expect, type Page } from '@playwright/test';

/**
 * Fails where the whole page lacks something, but for the news in its corner: they come by themselves, and are half transparent
 * while they do. In another theme, only colours differ.
 */
export async function accessibility(page: Page, theme: 'light' | 'dark' = 'light') {
  // What grows or fades into place is measured when it stands; what never ends is no such thing.
  await page.evaluate(async () => {
    const ending = document.getAnimations().filter((a) => a.effect?.getComputedTiming().iterations !== Number.POSITIVE_INFINITY);
    await Promise.allSettled(ending.map((a) => a.finished));
  });
  const axe = new AxeBuilder({ page }).exclude('[data-sonner-toaster]');
  const asked = theme === 'dark' ? axe.withRules(['color-contrast']) : axe.withTags(['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa']);
  const { violations } = await asked.analyze();
  expect(violations.map((v) => `${v.id}: ${v.nodes.map((n) => n.html.slice(0, 200)).join(' | ')}`)).toEqual([]);
}
