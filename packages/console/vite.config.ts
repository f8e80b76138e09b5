import react from '@vitejs/plugin-react';
import { defineConfig } from 'vite';

export default defineConfig({
  base: '/console/',
  plugins: [react()],
  // antd alone is near the bound above which the bundler warns; it is cached for long under its hash.
  build: { chunkSizeWarningLimit: 2000 },
  server: { proxy: { '/v1': 'http://127.0.0.1:9119', '/line': { target: 'ws://127.0.0.1:9119', ws: true } } },
});
