import { defineConfig } from '@playwright/test';
import { browser } from './browser';

export default defineConfig({ testDir: '.', testMatch: 'shots.ts', outputDir: 'results', workers: 1, timeout: 600_000, reporter: [['list']], use: browser });
