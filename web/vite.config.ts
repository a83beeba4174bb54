import tailwindcss from '@tailwindcss/vite';
import react from '@vitejs/plugin-react';
import { defineConfig } from 'vite';

// The build is embedded into the program; `npm run dev` talks to a running desk.
export default defineConfig({
  plugins: [react(), tailwindcss()],
  build: {
    outDir: '../internal/desk/console/dist',
    emptyOutDir: false,
    assetsInlineLimit: 0,
    chunkSizeWarningLimit: 600,
  },
  server: { proxy: { '/api': 'http://127.0.0.1:5711' } },
});
