import { readFileSync, writeFileSync } from 'node:fs';
import { join } from 'node:path';
import { brotliCompressSync, gzipSync } from 'node:zlib';
import tailwind from '@tailwindcss/vite';
import react from '@vitejs/plugin-react';
import { defineConfig } from 'vitest/config';

const server = process.env.HAVREL_URL ?? 'http://localhost:8020';

/** Puts each file's packed forms beside it: once, at the build, with the time to make them as small as they get. */
const packed = {
  name: 'packed',
  apply: 'build' as const,
  writeBundle(options: { dir?: string }, bundle: Record<string, unknown>) {
    for (const name of Object.keys(bundle).filter((file) => /\.(js|css|html|svg)$/.test(file))) {
      const path = join(options.dir ?? 'dist', name);
      const bytes = readFileSync(path);
      writeFileSync(`${path}.br`, brotliCompressSync(bytes));
      writeFileSync(`${path}.gz`, gzipSync(bytes, { level: 9 }));
    }
  },
};

export default defineConfig({
  plugins: [react(), tailwind(), packed],
  build: { chunkSizeWarningLimit: 1200 },
  server: { proxy: { '/api': { target: server, ws: true } } },
  // A document is made only where a test draws something, or says that it needs one.
  test: {
    projects: [
      { extends: true, test: { name: 'logic', environment: 'node', include: ['src/**/*.test.ts'] } },
      { extends: true, test: { name: 'views', environment: 'jsdom', include: ['src/**/*.test.tsx'] } },
    ],
  },
});
