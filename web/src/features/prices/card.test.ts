import { describe, expect, it } from 'vitest'
import { copyOf, raised, type Card } from './card'

describe('a card copied to a reseller', () => {
  it.each([
    ['4.90', '20', '5.88'],
    ['0.085', '12.5', '0.095625'],
    ['3', '0', '3'],
    ['0', '20', '0'],
    ['12345678.123', '100', '24691356.246'],
  ])('%s and %s %% more is %s', (amount, percent, result) => {
    expect(raised(amount, percent)).toBe(result)
  })

  it('raises what is money and nothing else', () => {
    const card: Card = {
      buyer: null,
      product: 'MAIL',
      first_day: '2026-01-01',
      next_day: null,
      currency: 'EUR',
      basis: 'held',
      aggregate: 'average',
      tier_mode: 'volume',
      tiers: [
        { from_quantity: '0', unit_price: '4' },
        { from_quantity: '50', unit_price: '3.5' },
      ],
      included: '5',
      committed: null,
      overage_price: '6',
      minimum: '10',
      fixed_fee: null,
      fees: 'by_day',
      is_markup: false,
      markup: null,
    }
    expect(copyOf(card, 'NORTH', '2026-12-01', '10')).toMatchObject({
      seller: 'NORTH',
      buyer: null,
      first_day: '2026-12-01',
      tiers: [
        { from_quantity: '0', unit_price: '4.4' },
        { from_quantity: '50', unit_price: '3.85' },
      ],
      included: '5',
      overage_price: '6.6',
      minimum: '11',
      fixed_fee: null,
      fees: 'by_day',
    })
  })
})
