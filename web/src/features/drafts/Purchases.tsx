import { useQueries } from '@tanstack/react-query'
import { poolsNow, useCan } from '../../api/queries'
import type { Changes, NewLot } from '../../domain/draft'
import { money, priced, sum, times } from '../../domain/money'
import { dayName, wholeMonths } from '../../domain/months'
import { units, unitName } from '../../domain/units'
import type { Names } from './names'

/** What a lot costs a month from its first day on, and over its term. */
export function costOf(lot: Pick<NewLot, 'quantity' | 'unit_cost' | 'first_day' | 'last_day'>, perUnit: number) {
  const monthly = priced(lot.unit_cost, lot.quantity, perUnit)
  const months = lot.last_day ? wholeMonths(lot.first_day, lot.last_day) : null
  return { monthly, total: months === null ? null : times(monthly, months) }
}

/** From when to when a lot is bought. */
export function termSaid(lot: Pick<NewLot, 'first_day' | 'last_day'>) {
  return lot.last_day ? `${dayName(lot.first_day)} to ${dayName(lot.last_day)}` : `from ${dayName(lot.first_day)}`
}

/** The first day of the earliest purchase of a draft; null where it holds none. */
export function beginOf(changes: Changes): string | null {
  const days = Object.values(changes).flatMap((each) => (each.kind === 'new lot' ? [each.first_day] : []))
  return days.sort()[0] ?? null
}

/** What the purchases of a draft cost a month, by currency. */
export function monthlyCosts(changes: Changes, perUnit: (product: string) => number): Map<string, string> {
  const costs = new Map<string, string>()
  for (const lot of Object.values(changes))
    if (lot.kind === 'new lot')
      costs.set(lot.currency, sum([costs.get(lot.currency) ?? '0', costOf(lot, perUnit(lot.product)).monthly]))
  return costs
}

/** The purchases of a draft with their money, as of the day each begins. */
export function Purchases({ changes, names }: { changes: Changes; names: Names }) {
  const sees = useCan('pools.see')
  const lots = Object.values(changes).filter((each): each is NewLot => each.kind === 'new lot')
  const renewed = lots.filter((each) => each.renews)
  const owned = useQueries({
    queries: renewed.map(({ owner, product }) => ({ ...poolsNow({ owner, product, limit: 1 }), enabled: sees })),
    combine: (found) => found.flatMap((each) => each.data?.rows ?? []),
  })
  if (!lots.length) return null
  return (
    <section aria-label="Purchases">
      <h3>Purchases</h3>
      <table className="ledger tight">
        <thead>
          <tr>
            <th>Order</th>
            <th className="fig">Quantity</th>
            <th>Term</th>
            <th className="fig">Per month</th>
            <th className="fig">Over the term</th>
            <th className="fig">Before</th>
          </tr>
        </thead>
        <tbody>
          {lots.map((lot) => {
            const pool = names.pool(lot.product)
            const per = pool?.per_unit ?? 1
            const { monthly, total } = costOf(lot, per)
            const was = owned
              .find((each) => each.owner === lot.owner && each.product === lot.product)
              ?.lots.find((each) => each.reference === lot.renews)
            return (
              <tr key={`${lot.owner} ${lot.product} ${lot.reference} ${lot.first_day}`}>
                <td>
                  {names.product(lot.product)} <span className="quiet small">{lot.reference}</span>
                </td>
                <td className="fig">
                  {units(lot.quantity, per)} <span className="quiet small">{unitName(pool?.unit ?? '', 2)}</span>
                </td>
                <td className="text-nowrap">{termSaid(lot)}</td>
                <td className="fig">
                  <b>+{money(monthly)}</b> <span className="quiet small">{lot.currency}</span>
                </td>
                <td className="fig">{total === null ? '–' : money(total)}</td>
                <td className="fig quiet">{was ? money(priced(was.unit_cost, was.quantity, per)) : '–'}</td>
              </tr>
            )
          })}
        </tbody>
      </table>
    </section>
  )
}
