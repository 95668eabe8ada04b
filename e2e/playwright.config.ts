import { defineConfig } from '@playwright/test';
import { browser } from './browser';

export default defineConfig({
  testDir: 'tests',
  outputDir: 'results',
  workers: 1,
  retries: 0,
  timeout: 120_000,
  expect: { timeout: 15_000 },
  reporter: [['list']],
  use: { ...browser, actionTimeout: 20_000, trace: 'retain-on-failure', screenshot: 'only-on-failure' },
});
