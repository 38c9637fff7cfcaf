import react from '@vitejs/plugin-react';
import { defineConfig } from 'vite';

export default defineConfig({
  plugins: [react()],
  html: { cspNonce: '__NONCE__' },
  server: { proxy: { '/api': 'http://127.0.0.1:8480' } },
  build: {
    emptyOutDir: true,
    assetsInlineLimit: 0,
    rolldownOptions: { treeshake: { manualPureFunctions: ['createSystem'] } },
  },
});
