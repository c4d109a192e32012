import type { Schemas } from '../../api/client'
import { money } from '../../domain/money'
import { dayOf, monthAfter, monthName } from '../../domain/months'

interface Month {
  month: string
  taken: number
  running: number
}

/** What runs took back, month by month: newly, and what no longer costs anything by then; in minor units. */
function months(runs: Schemas['RunRowBody'][], currency: string, now: string): Month[] {
  const taken = new Map<string, number>()
  for (const run of runs) {
    if (run.undone_at) continue
    for (const each of run.saved)
      if (each.currency === currency)
        taken.set(
          dayOf(run.at).slice(0, 7),
          (taken.get(dayOf(run.at).slice(0, 7)) ?? 0) + Math.round(Number(each.amount) * 100),
        )
  }
  const [first] = [...taken.keys()].sort()
  const found: Month[] = []
  let running = 0
  for (let month = first ?? now; month <= now && first; month = monthAfter(month, 1)) {
    running += taken.get(month) ?? 0
    found.push({ month, taken: taken.get(month) ?? 0, running })
  }
  return found.slice(-12)
}

/** What taking back saved, over time: bars of what is saved a month, and the sum so far. */
export function Savings({ runs, now }: { runs: Schemas['RunRowBody'][]; now: string }) {
  const currencies = [...new Set(runs.flatMap((run) => run.saved.map((each) => each.currency)))]
  const said = (cents: number) => money((cents / 100).toFixed(2))
  return (
    <>
      {currencies.map((currency) => {
        const found = months(runs, currency, dayOf(now).slice(0, 7))
        const most = Math.max(1, ...found.map((each) => each.running))
        if (found.length === 0) return null
        return (
          <section key={currency} aria-label={`Saved in ${currency}`} className="mt-4">
            <h2 className="sub">
              What it saves, in {currency}{' '}
              <span className="quiet small ms-2">
                {said(found.reduce((sum, each) => sum + each.running, 0))} so far, as long as nothing is assigned again
              </span>
            </h2>
            <table className="ledger tight savings">
              <thead>
                <tr>
                  <th>Month</th>
                  <th className="fig">Taken back</th>
                  <th className="fig">Saved a month</th>
                  <th>
                    <span className="visually-hidden">Drawn</span>
                  </th>
                </tr>
              </thead>
              <tbody>
                {found.map((each) => (
                  <tr key={each.month}>
                    <td>{monthName(each.month)}</td>
                    <td className="fig">{said(each.taken)}</td>
                    <td className="fig">{said(each.running)}</td>
                    <td>
                      <svg width="100%" height="10" aria-hidden="true">
                        <rect width={`${(each.running / most) * 100}%`} height="10" className="usebar" />
                        <rect
                          x={`${((each.running - each.taken) / most) * 100}%`}
                          width={`${(each.taken / most) * 100}%`}
                          height="10"
                          className="newbar"
                        />
                      </svg>
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </section>
        )
      })}
    </>
  )
}
