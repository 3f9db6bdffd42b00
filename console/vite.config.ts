import vue from '@vitejs/plugin-vue'
import { defineConfig } from 'vite'
import vuetify from 'vite-plugin-vuetify'

export default defineConfig({
  plugins: [vue(), vuetify({ autoImport: true })],
  build: { outDir: '../internal/web/console', emptyOutDir: true, chunkSizeWarningLimit: 900 },
  // While developing, the API of a demo that runs beside it. Sign in at the
  // demo's own address first: both share their cookies.
  server: { proxy: { '/v1': 'http://127.0.0.1:8437', '/sign-out': 'http://127.0.0.1:8437' } },
})
