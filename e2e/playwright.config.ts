import { defineConfig } from '@playwright/test';
import { browser } from './browser';

export default defineConfig({
  testDir: 'tests',
  outputDir: 'results',
  // Each spec has a server of its own on ports of its own, and mostly waits.
  workers: 2,
  retries: 0,
  timeout: 120_000,
  expect: { timeout: 15_000 },
  reporter: [['list']],
  use: { ...browser, actionTimeout: 20_000, trace: 'retain-on-failure', screenshot: 'only-on-failure' },
});
