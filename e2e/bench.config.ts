import { defineConfig } from '@playwright/test';
import { browser } from './browser';

export default defineConfig({
  testDir: '.',
  testMatch: 'bench.ts',
  outputDir: 'results',
  workers: 1,
  timeout: 120_000,
  reporter: [['list']],
  use: browser,
});
