import { decimal } from './units'

/** A price: at least two decimals, and all it has. */
export function price(text: string): string {
  return decimal(text, Math.max(2, text.split('.')[1]?.length ?? 0))
}

/** Prices by step in a few words. */
export function stepWords(tiers: { from_quantity: string; unit_price: string }[]): string {
  return tiers
    .map(
      (tier) => price(tier.unit_price) + (Number(tier.from_quantity) ? ` from ${decimal(tier.from_quantity, 0)}` : ''),
    )
    .join(', ')
}

/** What a price has besides its steps. */
export interface Besides {
  aggregate: string
  basis: string
  included: string
  committed?: string | null
  overage_price: string | null
  minimum: string | null
  fixed_fee: string | null
  fees: string
}

/** What is charged for, and what is charged besides the steps. */
export function besides(of: Besides): string {
  const { committed, overage_price, minimum, fixed_fee } = of
  const parts = [
    `${of.aggregate} ${of.basis}`,
    Number(of.included) ? `${decimal(of.included, 0)} included` : '',
    committed ? `${decimal(committed, 0)} committed` : '',
    overage_price ? `${price(overage_price)} past the cap` : '',
    minimum ? `at least ${price(minimum)}` : '',
    fixed_fee ? `plus ${price(fixed_fee)}` : '',
    of.fees === 'by_day' && (minimum ?? fixed_fee) ? 'fees by day' : '',
  ]
  return parts.filter(Boolean).join(' · ')
}
