import { transformAsync } from '@babel/core'
import { lingui } from '@lingui/vite-plugin'
import tailwindcss from '@tailwindcss/vite'
import react from '@vitejs/plugin-react'
import { defineConfig, type Plugin } from 'vite'

/** Turns the texts of a module into look-ups in the catalogue; see lingui.config.js. */
const texts = (): Plugin => ({
  name: 'texts',
  enforce: 'pre',
  async transform(code, id) {
    if (!/\.tsx?$/.test(id) || !code.includes('@lingui/')) return null
    const out = await transformAsync(code, {
      filename: id,
      plugins: ['@lingui/babel-plugin-lingui-macro'],
      parserOpts: { plugins: ['typescript', 'jsx'] },
      sourceMaps: true,
      babelrc: false,
      configFile: false,
    })
    return out?.code ? { code: out.code, map: out.map } : null
  },
})

export default defineConfig({
  plugins: [texts(), react(), lingui(), tailwindcss()],
  html: { cspNonce: '__CSP_NONCE__' },
  build: { outDir: '../internal/console/dist', emptyOutDir: true, assetsInlineLimit: 0 },
  server: { proxy: { '/api': 'http://127.0.0.1:8025' } },
})
