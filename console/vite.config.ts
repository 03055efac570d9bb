import { svelte } from '@sveltejs/vite-plugin-svelte';
import tailwindcss from '@tailwindcss/vite';
import { defineConfig } from 'vite';

export default defineConfig({
  plugins: [tailwindcss(), svelte()],
  build: { assetsInlineLimit: 0, modulePreload: { polyfill: false }, emptyOutDir: true },
  server: { proxy: { '/api': 'http://127.0.0.1:7420' } },
});
