import { fileURLToPath } from 'node:url'

import vue from '@vitejs/plugin-vue'
import { BootstrapVueNextResolver } from 'bootstrap-vue-next/resolvers'
import components from 'unplugin-vue-components/vite'
import { defineConfig } from 'vite'

export default defineConfig({
  base: '/console/',
  plugins: [
    vue(),
    // a component is imported where a template names it: each has the name of its file
    components({ dirs: ['src'], dts: 'src/components.d.ts', resolvers: [BootstrapVueNextResolver()] }),
  ],
  resolve: { alias: { '@': fileURLToPath(new URL('./src', import.meta.url)) } },
  build: {
    outDir: '../src/portero/service/console',
    emptyOutDir: true,
    // the content security policy lets fonts and scripts come from the service only, never from data: addresses
    assetsInlineLimit: 0,
  },
  server: { proxy: { '/api': 'http://127.0.0.1:8642' } },
})
