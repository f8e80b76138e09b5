import { defineConfig } from 'vite';

// The SDK as one file, for pages without a bundler; the service serves it at /client.js.
export default defineConfig({
  build: {
    lib: { entry: 'src/index.ts', formats: ['es'], fileName: () => 'client.js' },
    outDir: 'dist/browser',
    target: 'es2022',
    minify: true,
  },
});
