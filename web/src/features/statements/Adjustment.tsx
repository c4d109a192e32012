import { useQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import { api, take, type Schemas } from '../../api/client'
import { Trouble, Wait } from '../../components/States'
import { money, signed, sum } from '../../domain/money'
import { dayName, monthName } from '../../domain/months'
import { decimal, unitName } from '../../domain/units'
import { EvidenceTable } from './EvidenceTable'

/** What stands behind an adjustment: what was charged, what has been adjusted, and the days known otherwise today. */
export function Adjustment({
  buyer,
  month,
  currency,
  reference,
  day,
  choose,
}: {
  buyer: string
  month: string
  currency: string
  reference: string
  day: string | null
  choose: (name: string, value: string | null, drop?: string) => void
}) {
  const asked = useQuery({
    queryKey: ['statements', month, buyer, 'adjustment', reference, currency],
    queryFn: () =>
      take(
        api.GET('/api/statements/{buyer}/adjustment', {
          params: { path: { buyer }, query: { month, reference, currency } },
        }),
      ),
  })
  if (asked.isError) return <Trouble error={asked.error} again={() => void asked.refetch()} />
  if (!asked.data) return <Wait what="the adjustment" />
  const found = asked.data
  const { product, unit, measure } = found
  const charged = `/statements/${encodeURIComponent(buyer)}?month=${found.month}${product ? `&line=${product}` : ''}`
  return (
    <div className="reckon">
      <section>
        <h2 className="sub">How this was calculated</h2>
        <dl>
          <dt>
            Charged for {monthName(found.month)}
            {found.number && (
              <>
                ,{' '}
                <Link className="text-decoration-underline" to={charged}>
                  {found.number}
                </Link>
              </>
            )}
          </dt>
          <dd>{money(found.charged)}</dd>
          {found.before.map((each) => (
            <div key={each.month} style={{ display: 'contents' }}>
              <dt>
                Adjusted in {monthName(each.month)}
                {each.number && `, ${each.number}`}
              </dt>
              <dd>{signed(each.amount)}</dd>
            </div>
          ))}
          <dt>This adjustment</dt>
          <dd>{signed(found.amount)}</dd>
          <dt className="total">{monthName(found.month)} comes to</dt>
          <dd className="total">
            {money(sum([found.charged, ...found.before.map((each) => each.amount), found.amount]))} {currency}
          </dd>
        </dl>
      </section>
      {product && unit && measure && (
        <section>
          <h2 className="sub">
            Days known otherwise today, {unitName(unit, 2)} {found.basis}
          </h2>
          {found.days.length === 0 ? (
            <p className="quiet small m-0">
              No day differs: the price, or what caps and the pool came to, is what changed.
            </p>
          ) : (
            <table className="parts">
              <thead>
                <tr>
                  <th>Day</th>
                  <th className="fig">Charged on</th>
                  <th className="fig">Known today</th>
                  <th>
                    <span className="visually-hidden">Evidence</span>
                  </th>
                </tr>
              </thead>
              <tbody>
                {found.days.map((each) => (
                  <Day key={each.day} row={each} measure={measure} chosen={each.day === day} choose={choose} />
                ))}
              </tbody>
            </table>
          )}
        </section>
      )}
      {product && unit && measure && day && (
        <EvidenceTable
          buyer={buyer}
          line={{ product, unit, measure, days: [] }}
          day={day}
          close={() => choose('day', null)}
        />
      )}
    </div>
  )
}

function Day({
  row,
  measure,
  chosen,
  choose,
}: {
  row: Schemas['LaterKnownBody']
  measure: string
  chosen: boolean
  choose: (name: string, value: string | null) => void
}) {
  return (
    <tr>
      <td>{dayName(row.day)}</td>
      <td className="fig">{row.was === null ? '–' : decimal(row.was, 2)}</td>
      <td className="fig">{decimal(row.now, 2)}</td>
      <td>
        <button
          type="button"
          className="btn btn-link btn-sm p-0"
          aria-pressed={chosen}
          aria-label={`${measure === 'storage' ? 'Samples' : 'Assignments'} of ${dayName(row.day)}`}
          onClick={() => choose('day', chosen ? null : row.day)}
        >
          {measure === 'storage' ? 'samples' : 'assignments'}
        </button>
      </td>
    </tr>
  )
}
