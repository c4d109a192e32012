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
  const sheets = found.map((each) => each.data?.sheets)
  const currency = sheets.findLast((each) => each?.length)?.[0]?.currency ?? ''
  // Months are compared in the currency of the newest; what is in others is told beside it.
  const totals = sheets.map((each) => Number(each?.find((sheet) => sheet.currency === currency)?.total ?? 0))
  const told = (place: number) =>
    sheets[place]?.map((each) => `${money(each.total)} ${each.currency}`).join(', ') || `${money('0')} ${currency}`
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
          const said = `${monthName(each)}${each === month ? ' so far' : ''}: ${sheets[place] ? told(place) : 'loading'}`
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
        const each = months[place]
        return (
          each && (
            <div className="d-flex justify-content-between" key={each}>
              <span>
                {monthName(each)}
                {each === month && <span className="quiet"> so far</span>}
              </span>
              <span className="fig">{sheets[place] ? told(place) : '…'}</span>
            </div>
          )
        )
      })}
    </section>
  )
}
