import tailwindcss from '@tailwindcss/vite';
import react from '@vitejs/plugin-react';
import { defineConfig } from 'vitest/config';

export default defineConfig({
  base: '/static/',
  plugins: [react(), tailwindcss()],
  // beside the server's code, so that a wheel brings it along
  build: {
    outDir: '../src/tansy/server/page',
    emptyOutDir: true,
    target: 'es2022',
    chunkSizeWarningLimit: 900,
  },
  server: { proxy: { '/api': 'http://127.0.0.1:8321' } },
  test: {
    environment: 'jsdom',
    include: ['src/**/*.test.{ts,tsx}'],
    isolate: false, // see src/test/setup.tsx
    setupFiles: ['src/test/setup.tsx'],
    testTimeout: 30_000, // a busy machine is slow, not wrong
  },
});
