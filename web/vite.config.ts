import tailwindcss from '@tailwindcss/vite'
import vue from '@vitejs/plugin-vue'
import { fileURLToPath } from 'node:url'
import { defineConfig } from 'vitest/config'

export default defineConfig({
  plugins: [vue(), tailwindcss()],
  resolve: { alias: { '@': fileURLToPath(new URL('./src', import.meta.url)) } },
  build: { chunkSizeWarningLimit: 900 },
  server: { proxy: { '/api': 'http://127.0.0.1:8800' } },
  test: { environment: 'jsdom', pool: 'vmThreads', include: ['src/**/*.test.ts'] },
})
