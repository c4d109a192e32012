import { useQuery } from '@tanstack/react-query'
import { Link, useParams } from 'react-router'
import { messageOf, type Schemas } from '../../api/client'
import { forecast, me, statement as statementQuery, statementWithCosts } from '../../api/queries'
import { minus, money, percent, signed } from '../../domain/money'
import { dayOf, monthAfter, monthName, monthWord } from '../../domain/months'
import { useActs } from '../../commands/registry'
import { useAddress } from '../../components/address'
import { ExportMenu } from '../../components/ExportMenu'
import { Empty, Trouble, Wait } from '../../components/States'
import { PrintMenu } from '../../components/PrintMenu'
import { ByDepartment } from './ByDepartment'
import { ByVendor } from './ByVendor'
import { lastMonth, MonthBar } from './MonthBar'
import { lives } from './queries'
import { StatementLife } from './StatementLife'
import { Lines } from './StatementLines'

/** One buyer's month: from the total to the line, to the day, to the assignment. */
export default function StatementScreen() {
  const { buyer = '' } = useParams()
  const now = useQuery(me).data?.now ?? new Date().toISOString()
  const [params, change] = useAddress()
  const month = params.get('month') ?? lastMonth(now)
  const by = params.get('by') ?? 'product'
  const against = /^\d{4}-\d\d$/.exec(params.get('against') ?? '')?.[0] ?? monthAfter(month, -1)
  const asked = params.get('against') === null ? undefined : against
  const found = useQuery(statementQuery(buyer, month, asked))
  const costed = useQuery(statementWithCosts(buyer, month, asked, found.data?.costs_wait ?? false))
  const became = useQuery(lives(buyer, month)).data
  const running = month === dayOf(now).slice(0, 7)
  const expected = useQuery(forecast(buyer, month, running)).data
  const body = (found.data?.costs_wait ? costed.data : undefined) ?? found.data
  const before = against.slice(0, 4) === month.slice(0, 4) ? monthWord(against) : monthName(against)
  const sheet = body?.sheets.find((each) => each.currency === params.get('currency')) ?? body?.sheets[0]
  const life = became?.find((each) => each.receivable.number === sheet?.number)
  const largest = sheet && [...sheet.lines].sort((one, other) => Number(other.amount) - Number(one.amount))[0]
  useActs(
    'Statement',
    largest
      ? [{ id: 'largest-line', name: 'Open the largest line', keys: 'l', run: () => change({ line: largest.product }) }]
      : [],
  )
  if (found.isError) return <Trouble page="Statement" error={found.error} again={() => void found.refetch()} />
  if (!body) return <Wait what="the statement" />
  const choose = (name: string, value: string | null, drop?: string) =>
    change({ [name]: value, ...(drop ? { [drop]: null } : {}) })
  return (
    <>
      <div className="bar">
        <Link to={`/statements?month=${month}`} aria-label="All statements">
          ←
        </Link>
        <h1>{body.name}</h1>
        <MonthBar
          month={month}
          present={dayOf(now).slice(0, 7)}
          address={(each) => `/statements/${encodeURIComponent(buyer)}?month=${each}`}
          choose={(each) => choose('month', each)}
        />
        <span className="seg" role="group" aria-label="Shown by">
          <button type="button" aria-pressed={by === 'product'} onClick={() => choose('by', null)}>
            By product
          </button>
          <button type="button" aria-pressed={by === 'department'} onClick={() => choose('by', 'department')}>
            By department
          </button>
          <button type="button" aria-pressed={by === 'vendor'} onClick={() => choose('by', 'vendor')}>
            By vendor
          </button>
        </span>
        {body.sheets.length > 1 && (
          <span className="seg" role="group" aria-label="Currency">
            {body.sheets.map((each) => (
              <button
                key={each.currency}
                type="button"
                aria-pressed={each === sheet}
                onClick={() => choose('currency', each.currency, 'line')}
              >
                {each.currency}
              </button>
            ))}
          </span>
        )}
        <span className="grow" />
        <PrintMenu costs={sheet !== undefined && sheet.cost !== null} />
        <ExportMenu
          path={`/api/statements/${encodeURIComponent(buyer)}/export`}
          named="statement"
          params={{ month }}
          prints={false}
          pdf={sheet && `/api/statements/${encodeURIComponent(buyer)}/pdf`}
          more={[
            { name: 'JSON', path: `/api/statements/${encodeURIComponent(buyer)}/json`, params: { month } },
            ...(sheet?.number
              ? [
                  {
                    name: 'E-invoice (UBL)',
                    path: `/api/accounting/${encodeURIComponent(buyer)}/e-invoice`,
                    params: { month, currency: sheet.currency },
                  },
                ]
              : []),
            {
              name: 'Cost rows (FOCUS)',
              path: `/api/accounting/${encodeURIComponent(buyer)}/focus`,
              params: { from: month, until: month },
            },
          ]}
        />
      </div>
      <header className="printhead">
        <b>
          Statement {sheet?.number} {monthName(month)}
        </b>
        <span>
          From {body.seller_name ?? body.seller} to {body.name} ({body.buyer})
        </span>
      </header>
      {sheet && (
        <Sums
          sheet={sheet}
          seller={body.seller_name ?? body.seller}
          against={against}
          compare={(other) => choose('against', other === monthAfter(month, -1) ? null : other)}
          expected={running ? expected?.find((each) => each.currency === sheet.currency) : undefined}
          month={month}
        />
      )}
      {sheet && life && (
        <StatementLife life={life} buyer={buyer} month={month} sheet={sheet} line={params.get('line')} />
      )}
      <div className="scroll" role="region" aria-label="Lines" tabIndex={0}>
        {body.costs_wait && (
          <p className="quiet small px-3 pt-2 m-0 costs" role="status">
            {costed.isError
              ? `Cost and margin are not available yet. ${messageOf(costed.error)}`
              : 'Cost and margin are still being calculated.'}
          </p>
        )}
        {body.notes.map((each) => (
          <p className="near mx-3 my-1" key={each}>
            {each}
          </p>
        ))}
        {!sheet ? (
          <Empty title={`Nothing to charge in ${monthName(month)}`}>
            {body.days_read === 0 ? 'No day of it is over yet.' : 'Nothing with a price was held or used.'}
          </Empty>
        ) : by === 'department' ? (
          <ByDepartment sheet={sheet} />
        ) : by === 'vendor' ? (
          <ByVendor sheet={sheet} before={before} />
        ) : (
          <Lines
            body={body}
            sheet={sheet}
            month={month}
            line={params.get('line')}
            day={params.get('day')}
            before={before}
            choose={choose}
          />
        )}
        <p className="quiet small px-3 py-2 m-0">
          {body.days_read === body.days
            ? `All ${body.days} days are read.`
            : `${body.days_read} of ${body.days} days are read; the rest of the month is to come.`}{' '}
          Department shares add up to each line.
          {body.unpriced.length > 0 && (
            <span className="near">
              {' '}
              △ No rate from {body.seller_name ?? body.seller}: {body.unpriced.join(', ')}.
            </span>
          )}
          {sheet &&
            sheet.gone.length > 0 &&
            ` In ${before} there was also ${sheet.gone.map((each) => `${each.product_name} (${money(each.amount)})`).join(', ')}.`}
        </p>
      </div>
    </>
  )
}

type Sheet = Schemas['SheetBody']
/** So many months back are offered to compare with. */
const COMPARED = 13

/** What is owed, and what makes it differ from another month: the groups add up to the difference. */
function Sums({
  sheet,
  seller,
  against,
  compare,
  expected,
  month,
}: {
  sheet: Sheet
  seller: string
  /** The month it is compared with, and the way to choose another. */
  against: string
  compare: (other: string) => void
  /** What a running month may come to. */
  expected: Schemas['ForecastBody'] | undefined
  month: string
}) {
  const groups = [
    ['quantity', sheet.by_use],
    ['prices', sheet.by_price],
    ['new', sheet.by_new],
    ['ended', sheet.by_ended],
    ['charges', sheet.by_charges],
    ['discounts and credits', sheet.by_discounts],
    ['adjustments', sheet.by_adjustments],
    ['tax', sheet.by_tax],
  ] as const
  const told = groups.filter(([name, amount]) => name === 'quantity' || name === 'prices' || Number(amount) !== 0)
  return (
    <div className="sums">
      <div className="main">
        <span>
          {Number(sheet.total) < 0 ? 'Credited by' : 'Owed to'} {seller}
        </span>
        <b>
          {money(sheet.total)} {sheet.currency}
        </b>
      </div>
      <div>
        <span>{sheet.number ? 'Statement' : 'Status'}</span>
        <b>{sheet.number ?? 'open'}</b>
      </div>
      {expected && (
        <div
          title={`From what came after each day of the last three months. In nine of ten months the total lies in the range.`}
        >
          <span>Likely at the end of {monthWord(month)}</span>
          <b>
            {money(expected.likely)}{' '}
            <small className="quiet">
              {money(expected.low)} to {money(expected.high)}
            </small>
          </b>
        </div>
      )}
      <div>
        <span>
          Against{' '}
          <select
            className="plainselect"
            aria-label="Compare with"
            value={against}
            onChange={(event) => compare(event.target.value)}
          >
            {Array.from({ length: COMPARED }, (_, back) => monthAfter(month, -1 - back))
              .concat(monthAfter(month, -COMPARED) > against ? [against] : [])
              .map((each) => (
                <option key={each} value={each}>
                  {monthName(each)}
                </option>
              ))}
          </select>
        </span>
        <b>{signed(minus(sheet.total, sheet.before))}</b>
      </div>
      {told.map(([name, amount], place) => (
        <div key={name}>
          <span>
            {place === 0 && 'of that, '}
            {name}
          </span>
          <b>{signed(amount)}</b>
        </div>
      ))}
      {sheet.cost !== null && (
        <>
          <div className="costs">
            <span>Cost</span>
            <b>{money(sheet.cost)}</b>
          </div>
          <div className="costs">
            <span>Margin{sheet.net === sheet.total ? '' : ' before tax'}</span>
            <b>
              {money(minus(sheet.net, sheet.cost))}{' '}
              <small className="quiet">{percent(minus(sheet.net, sheet.cost), sheet.net)}</small>
            </b>
          </div>
        </>
      )}
    </div>
  )
}
