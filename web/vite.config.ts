import { defineConfig } from 'vite'
import react from '@vitejs/plugin-react'

export default defineConfig({
  plugins: [react({ jsxImportSource: '@own/jsx' })],
  resolve: { alias: { '@own': new URL('./src', import.meta.url).pathname } },
  build: { chunkSizeWarningLimit: 2000, emptyOutDir: true },
  server: { proxy: { '/api': 'http://127.0.0.1:7410' } },
})
