import { readFileSync, writeFileSync } from 'node:fs'
import { join } from 'node:path'
import { constants, brotliCompressSync, gzipSync } from 'node:zlib'

import * as icons from '@mdi/js'
import vue from '@vitejs/plugin-vue'
import { PurgeCSS } from 'purgecss'
import subset from 'subset-font'
import { defineConfig } from 'vite'
import vuetify from 'vite-plugin-vuetify'

/** What a page writes: printable ASCII and Latin-1, and the signs that are used besides. Anything else falls back to the system's font. */
const rare = '¤¦¨ª¬\u00ad®¯´¶¸¹º¼½¾ÐÞðþÝýÿ'
const characters = Array.from({ length: 0x100 - 0x20 }, (_, i) => String.fromCodePoint(0x20 + i)).filter(c => !rare.includes(c)).join('') + '–—‘’“”…→←−≥≤'

/** Cuts the fonts down to those characters and to the weights that are used. */
const smallFonts = {
  name: 'small-fonts',
  async generateBundle(_, bundle) {
    for (const file of Object.values(bundle)) {
      if (file.type !== 'asset' || !file.fileName.endsWith('.woff2')) continue
      file.source = await subset(Buffer.from(file.source), characters, { targetFormat: 'woff2', variationAxes: { wght: { min: 400, max: 700, default: 400 } } })
    }
  },
}

/** Puts each icon where it is named: the package is one module, so that a page would load the icons of all. */
const ownIcons = {
  name: 'own-icons',
  apply: 'build',
  transform(code, id) {
    if (!id.includes('/src/') || !code.includes('@mdi/js')) return
    return {
      code: code.replace(/import\s*\{([^}]*)\}\s*from\s*['"]@mdi\/js['"];?/g, (_, names) => names.split(',').map(n => n.trim()).filter(Boolean).map(n => `const ${n} = ${JSON.stringify(icons[n])};`).join(' ')),
      map: null,
    }
  },
}

/** Leaves out the helper classes of Vuetify that neither our pages nor its components name. */
const fewStyles = {
  name: 'few-styles',
  enforce: 'pre',
  async transform(code, id) {
    if (!id.includes('/vuetify/lib/styles/')) return
    const [left] = await new PurgeCSS().purge({
      content: ['index.html', 'src/**/*.{vue,ts}', 'node_modules/vuetify/lib/{components,composables,util}/**/*.js'],
      css: [{ raw: code }],
      safelist: { greedy: [/^v-/, /^(rounded|elevation|border|position)/] },
    })
    return { code: left.css, map: null }
  },
}

/** What browsers of four years ago do not know, in words that they do: a colour with an opacity. */
const olderColours = {
  name: 'older-colours',
  generateBundle(_, bundle) {
    for (const file of Object.values(bundle)) {
      if (file.type !== 'asset' || !file.fileName.endsWith('.css')) continue
      file.source = String(file.source)
        .replaceAll(/color-mix\(in srgb, ?rgb\((var\(--[\w-]+\))\) ?calc\((var\(--[\w-]+\)) ?\* ?100%\), ?transparent\)/g, 'rgba($1, $2)')
        .replaceAll(/color-mix\(in srgb, ?rgb\((var\(--[\w-]+\))\) ?(\d+%), ?transparent\)/g, 'rgba($1, $2)')
    }
  },
}

/** Packs what is text once it is written, and as small as it goes, so that the host need not do so for each visit. */
const packed = {
  name: 'packed',
  writeBundle({ dir }, bundle) {
    for (const name of Object.keys(bundle)) {
      if (!/^assets\/.*\.(js|css)$/.test(name)) continue
      const path = join(dir, name)
      const text = readFileSync(path)
      writeFileSync(`${path}.br`, brotliCompressSync(text, { params: { [constants.BROTLI_PARAM_QUALITY]: 11, [constants.BROTLI_PARAM_SIZE_HINT]: text.length } }))
      writeFileSync(`${path}.gz`, gzipSync(text, { level: 9 }))
    }
  },
}

/** Four years ago; `src/app/older.ts` adds what these lack at run time. */
const oldest = ['chrome102', 'firefox102', 'safari15.4']

export default defineConfig({
  base: './', // below whatever path the host is
  plugins: [vue(), vuetify({ autoImport: true }), ownIcons, fewStyles, smallFonts, olderColours, packed],
  define: { __VUE_OPTIONS_API__: false, __VUE_PROD_DEVTOOLS__: false, __VUE_PROD_HYDRATION_MISMATCH_DETAILS__: false },
  build: { outDir: '../internal/web/console', emptyOutDir: true, target: oldest, cssTarget: oldest },
  // While developing, the API of a demo that runs beside it. Sign in at the
  // demo's own address first: both share their cookies.
  server: { proxy: { '/v1': 'http://127.0.0.1:8437', '/sign-out': 'http://127.0.0.1:8437' } },
})
