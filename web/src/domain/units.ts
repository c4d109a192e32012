/** Grains and units as people read them. */

const grouped = new Intl.NumberFormat('en', { maximumFractionDigits: 0 })

/** Thousands grouped by a space that does not break. */
export function whole(value: number): string {
  // Most figures of a grid are small, and a row has a hundred of them.
  if (Number.isInteger(value) && value >= 0 && value < 1000) return String(value)
  return grouped.format(value).replaceAll(',', '\u00a0').replace('-', '−')
}

/** A quantity in grains as text in units: whole for counted products, up to 3 decimals for storage. */
export function units(grains: number, perUnit: number): string {
  if (perUnit === 1) return whole(grains)
  const negative = grains < 0
  const [int, rest] = [Math.floor(Math.abs(grains) / perUnit), Math.abs(grains) % perUnit]
  const decimals = rest === 0 ? '' : '.' + String(rest).padStart(3, '0').replace(/0+$/, '')
  return (negative ? '−' : '') + whole(int) + decimals
}

/** The same, short enough for a cell: storage without decimals. */
export function shortUnits(grains: number, perUnit: number): string {
  return perUnit === 1 ? whole(grains) : whole(Math.trunc(grains / perUnit))
}

/** Units typed by a person as grains; null where it is no such quantity. */
export function parseUnits(text: string, perUnit: number): number | null {
  const clean = text.trim().replaceAll(/\s/g, '').replace(',', '.')
  if (!/^\d{1,9}(\.\d{1,3})?$/.test(clean)) return null
  const [int = '0', decimals = ''] = clean.split('.')
  if (perUnit === 1) return Number(decimals) === 0 ? Number(int) : null
  return Number(int) * perUnit + Number(decimals.padEnd(3, '0'))
}

/** The same in a cell beside others: from a hundred thousand on in thousands or millions, never more than there is. */
export function roundUnits(grains: number, perUnit: number): string {
  const value = Math.trunc(grains / perUnit)
  if (Math.abs(value) < 100_000) return whole(value)
  return Math.abs(value) < 1_000_000 ? `${Math.trunc(value / 1000)}k` : `${Math.trunc(value / 100_000) / 10}M`
}

/** A quantity in very little room: thousands as k, millions as M. */
export function tinyUnits(grains: number, perUnit: number): string {
  const value = Math.trunc(grains / perUnit)
  if (value >= 1_000_000) return `${(value / 1_000_000).toFixed(value >= 10_000_000 ? 0 : 1)}M`
  return value >= 1000 ? `${(value / 1000).toFixed(value >= 10_000 ? 0 : 1)}k` : String(value)
}

/** The unit's name for so many. */
export function unitName(unit: string, count: number): string {
  return unit === 'GB' || count === 1 ? unit : `${unit}s`
}

/** A decimal given as text, with so many decimals and thousands grouped; never through binary floating point. */
export function decimal(text: string, decimals: number): string {
  const negative = text.startsWith('-')
  const [int = '0', rest = ''] = text.replace('-', '').split('.')
  let digits = BigInt(int + rest.padEnd(decimals, '0').slice(0, decimals))
  if ((rest[decimals] ?? '0') >= '5') digits += 1n
  const all = String(digits).padStart(decimals + 1, '0')
  const head = decimals === 0 ? all : all.slice(0, -decimals)
  const tail = decimals === 0 ? '' : '.' + all.slice(-decimals)
  return (negative && digits !== 0n ? '−' : '') + head.replace(/\B(?=(\d{3})+$)/g, '\u00a0') + tail
}

/** The first few of a list in words: "lt-00300, lt-00312 and 3 more". */
export function few(names: string[], most = 3): string {
  const more = names.length - most
  return `${names.slice(0, most).join(', ')}${more > 0 ? ` and ${more} more` : ''}`
}
