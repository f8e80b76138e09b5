import { defineConfig } from 'vite';

export default defineConfig({
  root: 'page',
  base: '/regatta/',
  build: { outDir: '../dist-page', emptyOutDir: true },
});
