import { decimal } from './units'

/** Exact sums of amounts written as decimals, in the smallest step any of them uses. */
export function sum(amounts: string[]): string {
  const places = Math.max(0, ...amounts.map((each) => each.split('.')[1]?.length ?? 0))
  const total = amounts.reduce((all, each) => all + scaled(each, places), 0n)
  return unscaled(total, places)
}

/** One amount less another, exactly. */
export function minus(one: string, other: string): string {
  return sum([one, other.startsWith('-') ? other.slice(1) : `-${other}`])
}

function scaled(amount: string, places: number): bigint {
  const negative = amount.startsWith('-')
  const [int = '0', rest = ''] = amount.replace('-', '').split('.')
  const value = BigInt(int + rest.padEnd(places, '0'))
  return negative ? -value : value
}

function unscaled(value: bigint, places: number): string {
  const text = String(value < 0n ? -value : value).padStart(places + 1, '0')
  const number = places === 0 ? text : `${text.slice(0, -places)}.${text.slice(-places)}`
  return value < 0n ? `-${number}` : number
}

/** A price times a quantity in grains, to the cent, halves up. */
export function priced(price: string, grains: number, perUnit: number): string {
  const places = Math.max(2, price.split('.')[1]?.length ?? 0)
  const whole = scaled(price, places) * BigInt(Math.round(grains))
  const step = BigInt(perUnit) * 10n ** BigInt(places - 2)
  return unscaled((2n * whole + step) / (2n * step), 2)
}

/** So many times an amount. */
export function times(amount: string, count: number): string {
  const places = amount.split('.')[1]?.length ?? 0
  return unscaled(scaled(amount, places) * BigInt(count), places)
}

/** An amount for reading: at least two decimals. */
export function money(amount: string): string {
  return decimal(amount, Math.max(2, amount.split('.')[1]?.length ?? 0))
}

/** A difference, with its sign. */
export function signed(amount: string): string {
  const text = money(amount)
  return Number(amount) > 0 ? `+${text}` : text
}

/** A part of a whole in percent, one decimal; a dash where there is no whole. */
export function percent(part: string, whole: string): string {
  const all = Number(whole)
  return all === 0 ? '–' : `${((Number(part) / all) * 100).toFixed(1).replace('-', '−')}\u00a0%`
}
