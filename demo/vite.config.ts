import { defineConfig } from 'vite';

export default defineConfig({
  root: 'page',
  base: '/regatta/',
  // Nothing inlined: the page's Content-Security-Policy lets in files of its own, and no data URLs.
  build: {
    outDir: '../dist-page',
    emptyOutDir: true,
    assetsInlineLimit: 0,
    rollupOptions: { input: ['page/index.html', 'page/race.html', 'page/weather.html'] },
  },
});
