import type { Schemas } from '../../api/client'
import type { RateChange, RateTerms } from '../../domain/draft'
import { stepWords } from '../../domain/prices'
import { decimal } from '../../domain/units'

export type Card = Schemas['CardBody']

/** A card in a few words: its prices by step, or what it is in place of them. */
export function cardWords(card: Card): string {
  if (card.is_markup) return card.markup === null ? 'on what it costs' : `cost + ${card.markup} %`
  return stepWords(card.tiers)
}

/** A card as it is typed. */
export interface Typed {
  first_day: string
  basis: RateTerms['basis']
  aggregate: RateTerms['aggregate']
  mode: RateTerms['tier_mode'] | 'markup'
  tiers: { from_quantity: string; unit_price: string }[]
  included: string
  committed: string
  overage_price: string
  minimum: string
  fixed_fee: string
  fees: 'whole' | 'by_day'
  markup: string
  currency: string
}

/** What to begin typing with: a card that is there, or an empty one. */
export function typedOf(card: Card | undefined, first_day: string, currency: string): Typed {
  return {
    first_day,
    basis: (card?.basis as RateTerms['basis'] | undefined) ?? 'held',
    aggregate: (card?.aggregate as RateTerms['aggregate'] | undefined) ?? 'average',
    mode: card?.is_markup ? 'markup' : ((card?.tier_mode as RateTerms['tier_mode'] | undefined) ?? 'graduated'),
    tiers: card?.tiers.length ? card.tiers : [{ from_quantity: '0', unit_price: '' }],
    included: card && Number(card.included) ? card.included : '',
    committed: card?.committed ?? '',
    overage_price: card?.overage_price ?? '',
    minimum: card?.minimum ?? '',
    fixed_fee: card?.fixed_fee ?? '',
    fees: card?.fees === 'by_day' ? 'by_day' : 'whole',
    markup: card?.markup ?? '',
    currency: card?.currency ?? currency,
  }
}

const NUMBER = /^\d{1,10}([.,]\d{1,10})?$/
const number = (text: string) => (NUMBER.test(text.trim()) ? text.trim().replace(',', '.') : null)
const isWrong = (text: string) => text.trim() !== '' && number(text) === null

const A_NUMBER = 'a number from 0, at most 10 digits before the point, such as 12.50'
const LABELS = {
  overage_price: 'Past the cap',
  minimum: 'Minimum',
  fixed_fee: 'Fixed fee',
  included: 'Included',
  committed: 'Committed',
} as const

/** The fields that hold no number, or that miss one (tiers by their place), each with what would be right. */
export function wrongIn(typed: Typed): Map<string, string> {
  const wrong = new Map<string, string>()
  const numbers = (...names: (keyof typeof LABELS)[]) => {
    for (const name of names) if (isWrong(typed[name])) wrong.set(name, `${LABELS[name]}: nothing, or ${A_NUMBER}.`)
  }
  if (!/^\d{4}-\d\d-\d\d$/.test(typed.first_day)) wrong.set('first_day', 'From: a day, such as 1 Dec 2026.')
  if (!/^[A-Za-z]{3}$/.test(typed.currency.trim())) wrong.set('currency', 'Currency: three letters, such as EUR.')
  if (typed.mode === 'markup') {
    if (number(typed.markup) === null) wrong.set('markup', `Markup: ${A_NUMBER}.`)
  } else {
    typed.tiers.forEach((tier, place) => {
      const from = number(tier.from_quantity)
      const before = place === 0 ? null : number(typed.tiers[place - 1]?.from_quantity ?? '')
      if (from === null || (place === 0 ? Number(from) !== 0 : before !== null && Number(from) <= Number(before)))
        wrong.set(
          `from ${place}`,
          place === 0
            ? 'Step 1 begins at 0.'
            : `Step ${place + 1} begins ${before === null ? 'after the step before it' : `at more than ${decimal(before, 0)}`}.`,
        )
      if (number(tier.unit_price) === null) wrong.set(`price ${place}`, `Unit price of step ${place + 1}: ${A_NUMBER}.`)
    })
    numbers('included', 'committed')
  }
  numbers('overage_price', 'minimum', 'fixed_fee')
  return wrong
}

/** What is typed as terms; call it only where nothing is wrong. */
export function termsOf(typed: Typed): RateTerms {
  const markup = typed.mode === 'markup'
  return {
    basis: typed.basis,
    aggregate: typed.aggregate,
    tier_mode: typed.mode === 'markup' ? 'graduated' : typed.mode,
    included: markup ? '0' : (number(typed.included) ?? '0'),
    committed: markup ? null : number(typed.committed),
    overage_price: number(typed.overage_price),
    minimum: number(typed.minimum),
    fixed_fee: number(typed.fixed_fee),
    fees: typed.fees,
    markup: markup ? number(typed.markup) : null,
    currency: typed.currency.trim().toUpperCase(),
    tiers: markup
      ? []
      : typed.tiers.map((tier) => ({
          from_quantity: number(tier.from_quantity) ?? '0',
          unit_price: number(tier.unit_price) ?? '0',
        })),
  }
}

/** What is typed as a change of the draft; `was` is a card of the same day. */
export function changeOf(
  typed: Typed,
  seller: string,
  buyer: string | null,
  product: string,
  was: Card | undefined,
): RateChange {
  return {
    kind: 'rate',
    seller,
    buyer,
    product,
    first_day: typed.first_day,
    ...termsOf(typed),
    was: was ? termsOf(typedOf(was, was.first_day, was.currency)) : null,
    gone: false,
  }
}

/** An amount and so many percent more, exactly. */
export function raised(amount: string, percent: string): string {
  const [whole = '0', rest = ''] = amount.split('.')
  const [more = '0', part = ''] = percent.split('.')
  const value = BigInt(whole + rest) * (100n * 10n ** BigInt(part.length) + BigInt(more + part))
  const places = rest.length + part.length + 2
  const digits = String(value).padStart(places + 1, '0')
  return `${digits.slice(0, -places)}.${digits.slice(-places)}`.replace(/\.?0+$/, '')
}

/** A card as a reseller's own general one, every price so many percent higher; what is not money stays. */
export function copyOf(card: Card, seller: string, first_day: string, percent: string): RateChange {
  const more = (text: string | null) => (text === null ? null : raised(text, percent))
  const terms = termsOf(typedOf(card, first_day, card.currency))
  return {
    kind: 'rate',
    seller,
    buyer: null,
    product: card.product,
    first_day,
    ...terms,
    tiers: terms.tiers.map((tier) => ({ ...tier, unit_price: raised(tier.unit_price, percent) })),
    overage_price: more(terms.overage_price),
    minimum: more(terms.minimum),
    fixed_fee: more(terms.fixed_fee),
    committed: null,
    was: null,
    gone: false,
  }
}
