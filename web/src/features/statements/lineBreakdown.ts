import type { Line } from '../../api/queries'
import { money } from '../../domain/money'
import { dayName } from '../../domain/months'
import { decimal, unitName } from '../../domain/units'

export interface Step {
  words: string
  figure: string
  total?: boolean
}

const basisWords: Record<string, string> = { used: 'Used', held: 'Held', reserved: 'Reserved' }

/** A quantity in units for reading: two decimals where they tell something. */
export function quantity(text: string): string {
  return decimal(text, 2)
}

/** How a line came about, step by step. */
export function steps(line: Line, daysRead: number, hours: number): Step[] {
  const unit = unitName(line.unit, 2)
  const how = {
    average: `on average over ${daysRead} days (${hours} hours)`,
    peak: 'on the highest day',
    p95: `at the 95th percentile of ${daysRead} days`,
  }[line.rate.aggregate]
  const found: Step[] = [
    {
      words: `${basisWords[line.rate.basis] ?? line.rate.basis} ${how ?? ''}${Number(line.overage_quantity) ? ', up to the cap' : ''}`,
      figure: `${quantity(line.quantity)} ${unit}`,
    },
  ]
  const left = String(Math.max(0, Number(line.quantity) - Number(line.included)))
  if (Number(line.included)) {
    found.push({ words: 'less what is included', figure: `${quantity(line.included)} ${unit}` })
    found.push({ words: 'leaves', figure: `${quantity(left)} ${unit}` })
  }
  if (line.committed !== null && Number(line.committed) > Number(left))
    found.push({ words: 'raised to what is committed', figure: `${quantity(line.chargeable)} ${unit}` })
  const volume = line.rate.tier_mode === 'volume'
  for (const tier of line.tiers) {
    const from = Number(tier.from_quantity)
      ? volume
        ? `, the price from ${decimal(tier.from_quantity, 0)} on for all`
        : `, from ${decimal(tier.from_quantity, 0)} on`
      : ''
    found.push({ words: `${quantity(tier.quantity)} at ${price(tier.unit_price)}${from}`, figure: amount(tier.amount) })
  }
  if (line.bought_for !== null && line.rate.markup !== null)
    found.push({
      words: `bought for ${amount(line.bought_for)}, and ${line.rate.markup} % on it`,
      figure: amount(reckoned(Number(line.bought_for) * (1 + Number(line.rate.markup) / 100))),
    })
  const charged = line.rate.is_markup || line.tiers.length > 0 || Number(line.overage_quantity) > 0
  if (!charged && !Number(line.fixed_fee) && !line.minimum_applied)
    found.push({ words: 'nothing to charge beyond that', figure: amount('0') })
  if (Number(line.overage_quantity)) {
    const against = line.rate.basis === 'reserved' ? 'past the reserve' : 'past the cap'
    found.push({
      words: `${quantity(line.overage_quantity)} ${against}, at ${price(line.rate.overage_price ?? '0')}`,
      figure: amount(line.overage_amount),
    })
  }
  const share = line.fee_days / line.period_days
  const days = share === 1 ? '' : `, for ${line.fee_days} of ${line.period_days} days`
  const fee = (words: string, whole: string) => ({
    words: days ? `${words} of ${amount(whole)}${days}` : words,
    figure: amount(days ? reckoned(Number(whole) * share) : whole),
  })
  if (line.minimum_applied) found.push(fee('raised to the minimum', line.rate.minimum ?? '0'))
  if (Number(line.fixed_fee)) found.push(fee('and the fixed fee', line.fixed_fee))
  found.push({ words: 'Charged', figure: `${money(line.amount)} ${line.currency}`, total: true })
  return found
}

/** A price: at least two decimals, and all it has. */
function price(text: string): string {
  return decimal(text, Math.max(2, text.split('.')[1]?.length ?? 0))
}

/** A product for reading, to four decimals, without what binary fractions leave behind. */
function reckoned(figure: number): string {
  return String(Number(figure.toFixed(4)))
}

/** An unrounded amount: as many decimals as it has, at most four. */
function amount(text: string): string {
  return decimal(text, Math.min(4, Math.max(2, text.split('.')[1]?.length ?? 0)))
}

export function rateWords(line: Line, seller: string, buyer: string): string {
  return `Rate of ${seller}, ${line.rate.buyer ? `for ${buyer} alone` : 'for all buyers'}, from ${dayName(line.rate.first_day)}`
}
