import { expect, it } from 'vitest'
import type { Line } from '../../api/queries'
import { steps } from './lineBreakdown'

const line = {
  product: 'P',
  vendor: '',
  product_name: 'P',
  unit: 'seat',
  measure: 'seat',
  currency: 'EUR',
  quantity: '60.500000',
  overage_quantity: '0.000000',
  included: '0',
  chargeable: '60.500000',
  overage_amount: '0',
  minimum_applied: false,
  fixed_fee: '0',
  amount: '230.70',
  before: '0',
  by_use: '0',
  by_price: '0',
  cost: null,
  committed: null,
  bought_for: null,
  fee_days: 31,
  period_days: 31,
  rate: {
    seller: 'G',
    buyer: null,
    first_day: '2026-01-01',
    basis: 'held',
    aggregate: 'average',
    tier_mode: 'graduated',
    overage_price: null,
    minimum: null,
    is_markup: false,
    markup: null,
  },
  tiers: [
    { from_quantity: '0', quantity: '50.000000', unit_price: '3.9', amount: '195' },
    { from_quantity: '50', quantity: '10.500000', unit_price: '3.4', amount: '35.7' },
  ],
  parts: [],
  days: [],
} satisfies Line

it('tells every slice and ends with what is charged', () => {
  expect(steps(line, 31, 745).map((step) => [step.words, step.figure])).toEqual([
    ['Held on average over 31 days (745 hours)', '60.50 seats'],
    ['50.00 at 3.90', '195.00'],
    ['10.50 at 3.40, from 50 on', '35.70'],
    ['Charged', '230.70 EUR'],
  ])
})

it('tells of what is included, past the cap, the minimum and the fee', () => {
  const words = steps(
    {
      ...line,
      included: '5',
      overage_quantity: '1.000000',
      minimum_applied: true,
      fixed_fee: '15',
      rate: { ...line.rate, minimum: '12', overage_price: '4.9' },
    },
    31,
    745,
  )
  expect(words.map((step) => step.words)).toEqual([
    'Held on average over 31 days (745 hours), up to the cap',
    'less what is included',
    'leaves',
    '50.00 at 3.90',
    '10.50 at 3.40, from 50 on',
    '1.00 past the cap, at 4.90',
    'raised to the minimum',
    'and the fixed fee',
    'Charged',
  ])
})

it('tells what is committed, and fees by the days they stand for', () => {
  const words = steps(
    { ...line, committed: '80', chargeable: '80.000000', fixed_fee: '31', fee_days: 10, period_days: 31, tiers: [] },
    31,
    745,
  )
  expect(words.map((step) => [step.words, step.figure])).toEqual([
    ['Held on average over 31 days (745 hours)', '60.50 seats'],
    ['raised to what is committed', '80.00 seats'],
    ['and the fixed fee of 31.00, for 10 of 31 days', '10.00'],
    ['Charged', '230.70 EUR'],
  ])
})

it('tells a markup only to whom the cost is told', () => {
  const markup = { ...line, tiers: [], rate: { ...line.rate, is_markup: true } }
  expect(steps(markup, 31, 745).map((step) => step.words)).toEqual([
    'Held on average over 31 days (745 hours)',
    'Charged',
  ])
  const seen = steps({ ...markup, bought_for: '200', rate: { ...markup.rate, markup: '15' } }, 31, 745)
  expect(seen[1]).toEqual({ words: 'bought for 200.00, and 15 % on it', figure: '230.00' })
})
