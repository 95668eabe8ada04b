// What a page lacks of WCAG 2.1, levels A and AA.

import { AxeBuilder } from '@axe-core/playwright';
import type { Page } from '@playwright/test';

/** Looks at the whole page, but for the news in its corner: they come by themselves, and are half transparent while they do. */
export const accessibility = (page: Page) =>
  new AxeBuilder({ page })
    .withTags(['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa'])
    .exclude('[data-sonner-toaster]')
    .analyze();
