import { svelte } from '@sveltejs/vite-plugin-svelte';
import tailwindcss from '@tailwindcss/vite';
import { defineConfig } from 'vitest/config';

export default defineConfig({
  plugins: [tailwindcss(), svelte()],
  // A strict content policy allows no data: fonts, so nothing is inlined.
  build: { assetsInlineLimit: 0, chunkSizeWarningLimit: 900 },
  resolve: process.env.VITEST ? { conditions: ['browser'] } : undefined,
  server: { proxy: { '/api': 'http://127.0.0.1:4870' } },
  test: { environment: 'happy-dom', include: ['src/**/*.test.ts'] },
});
