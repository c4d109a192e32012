import { useQueries, useQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import { charged, today } from '../../api/queries'
import { money } from '../../domain/money'
import { monthAfter, monthName, monthWord } from '../../domain/months'

const MONTHS = 12

/** What an account was charged in each of the last twelve months, the running one lighter; each leads to its statement. */
export function StatementPlot({ account }: { account: string }) {
  const month = useQuery(today).data?.day.slice(0, 7)
  const months = month ? Array.from({ length: MONTHS }, (_, back) => monthAfter(month, back + 1 - MONTHS)) : []
  const found = useQueries({ queries: months.map((each) => charged(account, each)) })
  const totals = found.map((each) => Number(each.data?.total ?? 0))
  const most = Math.max(...totals, 0) || 1
  return (
    <section aria-label="Statements">
      <h2 className="sub">
        Statements{' '}
        <Link className="small ms-2" to={`/statements/${encodeURIComponent(account)}`}>
          open
        </Link>
      </h2>
      <div className="monthplot">
        {months.map((each, place) => {
          const body = found[place]?.data
          const said = `${monthName(each)}${each === month ? ' so far' : ''}: ${body ? `${money(body.total)} ${body.currency}` : 'loading'}`
          return (
            <Link
              key={each}
              to={`/statements/${encodeURIComponent(account)}?month=${each}`}
              title={said}
              aria-label={said}
              className={each === month ? 'running' : undefined}
            >
              <span style={{ height: `${Math.max(0, ((totals[place] ?? 0) / most) * 100)}%` }} />
              <small>{monthWord(each).slice(0, 1)}</small>
            </Link>
          )
        })}
      </div>
      {[MONTHS - 1, MONTHS - 2].map((place) => {
        const body = found[place]?.data
        const each = months[place]
        return (
          each && (
            <div className="d-flex justify-content-between" key={each}>
              <span>
                {monthName(each)}
                {each === month && <span className="quiet"> so far</span>}
              </span>
              <span className="fig">
                {body ? (
                  <>
                    {money(body.total)} <span className="quiet small">{body.currency}</span>
                  </>
                ) : (
                  '…'
                )}
              </span>
            </div>
          )
        )
      })}
    </section>
  )
}
