import tailwind from '@tailwindcss/vite';
import react from '@vitejs/plugin-react';
import { defineConfig } from 'vitest/config';

const server = process.env.HAVREL_URL ?? 'http://localhost:8020';

export default defineConfig({
  plugins: [react(), tailwind()],
  build: { chunkSizeWarningLimit: 1200 },
  server: { proxy: { '/api': { target: server, ws: true } } },
  test: { environment: 'jsdom', include: ['src/**/*.test.ts', 'src/**/*.test.tsx'] },
});
