import { describe, expect, it } from 'vitest'
import { copyOf, raised, typedOf, wrongIn, type Card, type Typed } from './card'

describe('a card as it is typed', () => {
  const right: Typed = {
    ...typedOf(undefined, '2026-12-01', 'EUR'),
    tiers: [
      { from_quantity: '0', unit_price: '4' },
      { from_quantity: '25', unit_price: '3,5' },
    ],
  }
  const stepAt = (from_quantity: string) => ({
    tiers: [...right.tiers.slice(0, 1), { from_quantity, unit_price: '3' }],
  })
  it.each<[Partial<Typed>, string[]]>([
    [{}, []],
    [stepAt('0'), ['Step 2 begins at more than 0.']],
    [stepAt('-3'), ['Step 2 begins at more than 0.']],
    [stepAt(''), ['Step 2 begins at more than 0.']],
    [
      { currency: '€', fixed_fee: '99999999999' },
      [
        'Currency: three letters, such as EUR.',
        'Fixed fee: nothing, or a number from 0, at most 10 digits before the point, such as 12.50.',
      ],
    ],
    [{ mode: 'markup', tiers: [], markup: '12.5' }, []],
  ])('%j: what would be right is said', (part, said) => {
    expect([...wrongIn({ ...right, ...part }).values()]).toEqual(said)
  })
})

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
