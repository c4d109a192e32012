import type { Schemas } from '../../api/client'

export type Table = Schemas['TermsTable']
export type Name = Table['table']
export type Cells = Record<string, string>

interface Kind {
  title: string
  one: string
  about: string
  empty: string
}

export const KINDS: Record<Name, Kind> = {
  charges: {
    title: 'Charges',
    one: 'charge',
    about: 'What is charged besides usage: once, or every month.',
    empty: 'No charges.',
  },
  discounts: {
    title: 'Discounts',
    one: 'discount',
    about: 'Percent off a product, or off all usage and charges.',
    empty: 'No discounts.',
  },
  credits: {
    title: 'Credits',
    one: 'credit',
    about: 'Amounts that pay for what is owed until they are used up.',
    empty: 'No credits.',
  },
  tax_rates: {
    title: 'Tax rates',
    one: 'tax rate',
    about: 'The percentage of a tax class from a day on. Products and charges name their class.',
    empty: 'No tax rates: nothing is taxed.',
  },
  exchange_rates: {
    title: 'Exchange rates',
    one: 'exchange rate',
    about: 'Where costs are in another currency than prices: 1 of one is so much of the other. The newest counts.',
    empty: 'No exchange rates.',
  },
}
export const LABELS: Record<string, string> = {
  buyer: 'Buyer',
  reference: 'Reference',
  description: 'Description',
  tax_class: 'Tax class',
  quantity: 'Quantity',
  unit_price: 'Unit price',
  currency: 'Currency',
  first_day: 'First day',
  last_day: 'Last day',
  every: 'Charged',
  fees: 'Part of a month',
  product: 'Product',
  percent: 'Percent',
  ceiling: 'Ceiling',
  amount: 'Amount',
  day: 'Day',
  from: '1 of',
  to: 'Is so many',
  rate: 'Rate',
}
export const HINTS: Record<string, string> = {
  currency: 'Empty: your own',
  last_day: 'Empty: open',
  quantity: 'Empty: 1',
  ceiling: 'Empty: none',
  tax_class: 'Empty: not taxed',
}
export const CHOICES: Record<string, [string, string][]> = {
  every: [
    ['once', 'once'],
    ['month', 'monthly'],
  ],
  fees: [
    ['whole', 'whole'],
    ['by_day', 'by the day'],
  ],
}
export const FIGURES = new Set(['quantity', 'unit_price', 'percent', 'ceiling', 'amount', 'rate'])
export const DAYS = new Set(['first_day', 'last_day', 'day'])
export const REQUIRED = new Set([
  'buyer',
  'reference',
  'unit_price',
  'first_day',
  'percent',
  'amount',
  'day',
  'from',
  'to',
  'rate',
])

/** A row with what it is, as a sentence begins. */
export function named(table: Table, row: Cells): string {
  const { one } = KINDS[table.table]
  return `${one.charAt(0).toUpperCase()}${one.slice(1)} ${called(table, row)}`
}

export const called = (table: Table, row: Cells) => table.key.map((name) => row[name] ?? '').join(' ')
