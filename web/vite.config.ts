import react from '@vitejs/plugin-react'
import type { AtRule, Plugin as PostcssPlugin, Rule } from 'postcss'
import { defineConfig } from 'vite'

/** Bootstrap's `legend + *` makes every row that comes or goes restyle the whole grid; its rule is not used here. */
const withoutLegendRule: PostcssPlugin = {
  postcssPlugin: 'without-legend-rule',
  Rule(rule: Rule) {
    if (rule.selector.includes('legend+*') || rule.selector.includes('legend + *')) rule.remove()
  },
  AtRule(rule: AtRule) {
    if (rule.name === 'charset') rule.remove()
  },
}

export default defineConfig({
  plugins: [react()],
  css: { postcss: { plugins: [withoutLegendRule] } },
  build: { target: 'es2022', reportCompressedSize: true, assetsInlineLimit: 0 },
  server: { proxy: { '/api': 'http://127.0.0.1:8471' } },
  test: { environment: 'node', include: ['src/**/*.test.ts'] },
} as Parameters<typeof defineConfig>[0])
