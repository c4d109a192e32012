import { useQuery } from '@tanstack/react-query'
import { useLayoutEffect, useRef, useState } from 'react'
import { Link, useParams } from 'react-router'
import { DayChart } from '../../charts/DayChart'
import { me, statement as statementQuery, type Line, type Statement } from '../../api/queries'
import { minus, money, percent, signed, sum } from '../../domain/money'
import { dayOf, monthAfter, monthName, monthWord } from '../../domain/months'
import { unitName } from '../../domain/units'
import { useActs } from '../../commands/registry'
import { useAddress } from '../../components/address'
import { ExportMenu } from '../../components/ExportMenu'
import { Empty, Trouble, Wait } from '../../components/States'
import { PrintMenu } from '../../components/PrintMenu'
import { holders } from '../../components/holders'
import { EvidenceTable } from './EvidenceTable'
import { lastMonth, MonthBar } from './MonthBar'
import { quantity, rateWords, steps } from './lineBreakdown'

/** One buyer's month: from the total to the line, to the day, to the assignment. */
export default function StatementScreen() {
  const { buyer = '' } = useParams()
  const now = useQuery(me).data?.now ?? new Date().toISOString()
  const [params, change] = useAddress()
  const month = params.get('month') ?? lastMonth(now)
  const by = params.get('by') ?? 'product'
  const found = useQuery(statementQuery(buyer, month))
  const body = found.data
  const before = monthWord(monthAfter(month, -1))
  const largest = body ? [...body.lines].sort((one, other) => Number(other.amount) - Number(one.amount))[0] : undefined
  useActs(
    'Statement',
    largest
      ? [{ id: 'largest-line', name: 'Open the largest line', keys: 'l', run: () => change({ line: largest.product }) }]
      : [],
  )
  if (found.isError) return <Trouble error={found.error} again={() => void found.refetch()} />
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
        </span>
        <span className="grow" />
        <PrintMenu costs={body.cost !== null} />
        <ExportMenu path={`/api/statements/${encodeURIComponent(buyer)}/export`} params={{ month }} />
      </div>
      <header className="printhead">
        <b>Statement {monthName(month)}</b>
        <span>
          From {body.seller_name ?? body.seller} to {body.name} ({body.buyer})
        </span>
      </header>
      <div className="sums">
        <div className="main">
          <span>Owed to {body.seller_name ?? body.seller}</span>
          <b>
            {money(body.total)} {body.currency}
          </b>
        </div>
        <div>
          <span>Against {before}</span>
          <b>{signed(minus(body.total, body.before))}</b>
        </div>
        <div>
          <span>of that, quantity</span>
          <b>{signed(body.by_use)}</b>
        </div>
        <div>
          <span>of that, prices</span>
          <b>{signed(body.by_price)}</b>
        </div>
        {body.cost !== null && (
          <>
            <div className="costs">
              <span>Cost</span>
              <b>{money(body.cost)}</b>
            </div>
            <div className="costs">
              <span>Margin</span>
              <b>
                {money(minus(body.total, body.cost))}{' '}
                <small className="quiet">{percent(minus(body.total, body.cost), body.total)}</small>
              </b>
            </div>
          </>
        )}
      </div>
      <div className="scroll" role="region" aria-label="Lines" tabIndex={0}>
        {body.notes.map((each) => (
          <p className="near mx-3 my-1" key={each}>
            {each}
          </p>
        ))}
        {body.lines.length === 0 ? (
          <Empty title={`Nothing to charge in ${monthName(month)}`}>
            {body.days_read === 0 ? 'No day of it is over yet.' : 'Nothing with a price was held or used.'}
          </Empty>
        ) : by === 'department' ? (
          <ByDepartment body={body} />
        ) : (
          <Lines body={body} month={month} line={params.get('line')} day={params.get('day')} choose={choose} />
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
          {body.gone.length > 0 &&
            ` In ${before} there was also ${body.gone.map((each) => `${each.product_name} (${money(each.amount)})`).join(', ')}.`}
        </p>
      </div>
    </>
  )
}

interface LinesProps {
  body: Statement
  month: string
  line: string | null
  day: string | null
  choose: (name: string, value: string | null, drop?: string) => void
}

function Lines({ body, month, line: opened, day, choose }: LinesProps) {
  const largest = Math.max(0.01, ...body.lines.map((each) => Math.abs(Number(minus(each.amount, each.before)))))
  return (
    <table className="ledger lines">
      <thead>
        <tr>
          <th>Product</th>
          <th>Billing basis</th>
          <th className="fig">Quantity</th>
          <th className="fig">Overage</th>
          <th className="fig">Amount, {body.currency}</th>
          <th className="fig">Since {monthWord(monthAfter(month, -1))}</th>
          <th>
            <span className="visually-hidden">Difference, as a bar</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {body.lines.map((line) => {
          const isOpen = line.product === opened
          const change = minus(line.amount, line.before)
          const width = Math.round((Math.abs(Number(change)) / largest) * 70)
          return [
            <tr key={line.product} className={isOpen ? 'open' : undefined}>
              <td className="product">
                <button
                  type="button"
                  aria-expanded={isOpen}
                  onClick={() => choose('line', isOpen ? null : line.product, 'day')}
                >
                  <span className="tw" aria-hidden="true">
                    {isOpen ? '▾' : '▸'}
                  </span>
                  {line.product_name}
                </button>
              </td>
              <td className="quiet">
                {line.rate.basis}, {line.rate.aggregate}
              </td>
              <td className="fig">
                {quantity(line.quantity)} <span className="quiet small">{unitName(line.unit, 2)}</span>
              </td>
              <td className="fig">{Number(line.overage_quantity) ? quantity(line.overage_quantity) : '–'}</td>
              <td className="fig">
                <b>{money(line.amount)}</b>
              </td>
              <td className="fig quiet">{signed(change)}</td>
              <td>
                <span className="diff" aria-hidden="true">
                  <i
                    style={{
                      position: 'absolute',
                      left: 0,
                      height: 8,
                      width,
                      background: Number(change) < 0 ? 'var(--use)' : 'var(--acc)',
                    }}
                  />
                </span>
              </td>
            </tr>,
            isOpen && (
              <tr key={`${line.product} open`}>
                <td colSpan={7} style={{ padding: 0 }}>
                  <Reckoning body={body} line={line} day={day} choose={choose} />
                </td>
              </tr>
            ),
          ]
        })}
      </tbody>
      <tfoot>
        <tr>
          <td>{monthName(month)}</td>
          <td />
          <td />
          <td />
          <td className="fig">{money(body.total)}</td>
          <td className="fig">{signed(minus(body.total, body.before))}</td>
          <td />
        </tr>
      </tfoot>
    </table>
  )
}

function Reckoning({
  body,
  line,
  day,
  choose,
}: {
  body: Statement
  line: Line
  day: string | null
  choose: LinesProps['choose']
}) {
  const box = useRef<HTMLDivElement>(null)
  const [width, setWidth] = useState(480)
  useLayoutEffect(() => {
    const element = box.current
    if (!element) return
    const watch = new ResizeObserver(() => setWidth(Math.max(240, element.clientWidth)))
    watch.observe(element)
    return () => watch.disconnect()
  }, [])
  return (
    <div className="reckon">
      <section>
        <h2 className="sub">How this was calculated</h2>
        <dl>
          {steps(line, body.days_read, body.hours_read).map((step) => (
            <div key={step.words} style={{ display: 'contents' }}>
              <dt className={step.total ? 'total' : undefined}>{step.words}</dt>
              <dd className={step.total ? 'total' : undefined}>{step.figure}</dd>
            </div>
          ))}
        </dl>
        <p className="quiet small mt-2 mb-0">{rateWords(line, body.seller_name ?? body.seller, body.name)}</p>
        <p className="small m-0">
          <Link to={holders({ ...line, account: body.buyer })}>Holders, least active first</Link>
        </p>
        {line.cost !== null && (
          <p className="quiet small m-0">
            It cost {money(line.cost)}; margin {money(minus(line.amount, line.cost))}.
          </p>
        )}
      </section>
      <section>
        <h2 className="sub d-flex justify-content-between">
          <span>Day by day, {unitName(line.unit, 2)}</span>
          <span style={{ fontWeight: 400 }}>
            choose a day for its {line.measure === 'storage' ? 'samples' : 'assignments'}
          </span>
        </h2>
        <div ref={box}>
          <DayChart
            days={line.days}
            unit={line.unit}
            chosen={day}
            onChoose={(each) => choose('day', each === day ? null : each)}
            width={width}
          />
        </div>
        <span className="gaugekey mt-1">
          <span>
            <i className="k u" />
            in use
          </span>
          <span>
            <i className="k h" />
            held, not used
          </span>
          <span>━ cap</span>
          <span>┅ reserve</span>
        </span>
      </section>
      <section>
        <h2 className="sub">By department</h2>
        <table className="parts">
          <thead>
            <tr>
              <th>Department</th>
              <th className="fig">{unitName(line.unit, 2)}</th>
              <th className="fig">{line.currency}</th>
            </tr>
          </thead>
          <tbody>
            {line.parts.map((part) => (
              <tr key={part.account}>
                <td>{part.name}</td>
                <td className="fig quiet">{quantity(part.quantity)}</td>
                <td className="fig">{money(part.amount)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </section>
      {day && <EvidenceTable buyer={body.buyer} line={line} day={day} close={() => choose('day', null)} />}
    </div>
  )
}

function ByDepartment({ body }: { body: Statement }) {
  const names = new Map<string, string>()
  const amounts = new Map<string, Map<string, string>>()
  for (const line of body.lines) {
    for (const part of line.parts) {
      names.set(part.account, part.name)
      const mine = amounts.get(part.account) ?? new Map<string, string>()
      mine.set(line.product, part.amount)
      amounts.set(part.account, mine)
    }
  }
  const rows = [...names].map(([account, name]) => ({
    account,
    name,
    by: amounts.get(account) ?? new Map<string, string>(),
  }))
  rows.sort((one, other) => Number(sum([...other.by.values()])) - Number(sum([...one.by.values()])))
  return (
    <table className="ledger">
      <thead>
        <tr>
          <th>Department</th>
          {body.lines.map((line) => (
            <th className="fig" key={line.product}>
              {line.product_name}
            </th>
          ))}
          <th className="fig">Together, {body.currency}</th>
        </tr>
      </thead>
      <tbody>
        {rows.map((row) => (
          <tr key={row.account}>
            <td style={{ fontWeight: 620 }}>{row.name}</td>
            {body.lines.map((line) => (
              <td className="fig" key={line.product}>
                {row.by.has(line.product) ? money(row.by.get(line.product) ?? '0') : <span className="quiet">–</span>}
              </td>
            ))}
            <td className="fig">
              <b>{money(sum([...row.by.values()]))}</b>
            </td>
          </tr>
        ))}
      </tbody>
      <tfoot>
        <tr>
          <td>{rows.length} departments</td>
          {body.lines.map((line) => (
            <td className="fig" key={line.product}>
              {money(line.amount)}
            </td>
          ))}
          <td className="fig">{money(body.total)}</td>
        </tr>
      </tfoot>
    </table>
  )
}
