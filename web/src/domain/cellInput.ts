/** What people type or paste into a cell, as new terms: `60`, `none`, `+5`, `-10%`, `20/60`. */

import type { Terms } from './draft'
import { parseUnits } from './units'

export type Field = 'reserve' | 'cap'

/** The field's new value in grains (cap null = none); undefined where the text is no such thing. */
export function typedValue(
  text: string,
  field: Field,
  present: number | null,
  perUnit: number,
): number | null | undefined {
  const clean = text
    .trim()
    .toLowerCase()
    .replaceAll('−', '-')
    .replaceAll(/[\s\u00a0]/g, '')
  if (clean === 'none' || clean === '–' || clean === '-') return field === 'cap' ? null : 0
  const relative = /^([+-])(\d+(?:[.,]\d+)?)(%?)$/.exec(clean)
  if (!relative) return parseUnits(clean, perUnit) ?? undefined
  if (present === null) return undefined
  const [, sign = '+', digits = '', percent] = relative
  let by: number
  if (percent) {
    const share = Number(digits.replace(',', '.'))
    if (share > 100_000) return undefined
    by = Math.round((present * share) / 100)
  } else {
    const parsed = parseUnits(digits, perUnit)
    if (parsed === null) return undefined
    by = parsed
  }
  const value = sign === '+' ? present + by : present - by
  return value < 0 ? undefined : value
}

/** Terms after typing into a cell; a pair `reserve/cap` sets both. Undefined where the text is no quantity. */
export function typedTerms(text: string, field: Field, terms: Terms, perUnit: number): Terms | undefined {
  const pair = text.split('/')
  if (pair.length === 2) {
    const reserve = typedValue(pair[0] ?? '', 'reserve', terms.reserve, perUnit)
    const cap = typedValue(pair[1] ?? '', 'cap', terms.cap, perUnit)
    return reserve === undefined || reserve === null || cap === undefined
      ? undefined
      : { ...withCap(terms, cap, pair[1] ?? ''), reserve }
  }
  const value = typedValue(text, field, terms[field], perUnit)
  if (value === undefined) return undefined
  return field === 'cap' ? withCap(terms, value, text) : { ...terms, reserve: value ?? 0 }
}

/** A cap typed whole is what is typed, and follows seats no longer; one typed as more or less than it was still does. */
function withCap(terms: Terms, cap: number | null, text: string): Terms {
  return /^\s*[+\-−]\d/.test(text) ? { ...terms, cap } : { ...terms, cap, per: null, each: null }
}

/** A block copied from a spreadsheet, row by row. The line break at its end is no row. */
export function parseBlock(text: string): string[][] {
  return text
    .replace(/\r\n?/g, '\n')
    .replace(/\n$/, '')
    .split('\n')
    .map((line) => line.split('\t'))
}
