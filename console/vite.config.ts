import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'

export default defineConfig({
  plugins: [vue()],
  build: {
    outDir: 'dist',
    emptyOutDir: true,
    chunkSizeWarningLimit: 1500,
    rolldownOptions: { checks: { bundlerTimings: false } },
  },
  server: { proxy: { '/api': 'http://127.0.0.1:7340' } },
})
