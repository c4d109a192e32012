import react from '@vitejs/plugin-react'
import type { AtRule, Plugin as PostcssPlugin, Rule } from 'postcss'
import { defineConfig } from 'vite'

/** Parts of Bootstrap that no screen uses, and its utilities for other widths and in print; they need not be sent. */
const UNUSED =
  /\.(?:accordion|carousel|offcanvas|toast|card|breadcrumb|pagination|page-|list-group|placeholder|popover|tooltip|spinner|navbar|nav-|nav\b|alert|badge|figure-|img-|ratio|form-floating|form-range|form-switch|input-group|btn-group|btn-toolbar|link-|text-bg-|bg-|border-|rounded|shadow|z-|vstack|hstack|stretched|display-|lead|blockquote|row-cols|offset-|g[xy]?-|container|table-|(?:col|[a-z]+)-(?:sm|md|lg|xl|xxl|print)-)/
const isOfBootstrap = (rule: Rule) => rule.source?.input.file?.includes('bootstrap') ?? false

/** Bootstrap's `legend + *` makes every row that comes or goes restyle the whole grid; its rule is not used here. */
const withoutLegendRule: PostcssPlugin = {
  postcssPlugin: 'without-legend-rule',
  Rule(rule: Rule) {
    if (isOfBootstrap(rule)) {
      const used = rule.selectors.filter((each) => !UNUSED.test(each))
      if (used.length === 0) return void rule.remove()
      rule.selectors = used
    }
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
  test: {
    environment: 'node',
    include: ['src/**/*.test.{ts,tsx}'],
    setupFiles: ['src/patience.ts'],
    testTimeout: 30_000,
  },
} as Parameters<typeof defineConfig>[0])
