import { useLayoutEffect, useRef, useState } from 'react'
import { Link } from 'react-router'
import { DayChart } from '../../charts/DayChart'
import type { Schemas } from '../../api/client'
import type { Line, Statement } from '../../api/queries'
import { minus, money, signed } from '../../domain/money'
import { monthName } from '../../domain/months'
import { unitName } from '../../domain/units'
import { holders } from '../../components/holders'
import { Adjustment } from './Adjustment'
import { EvidenceTable } from './EvidenceTable'
import { quantity, rateWords, steps } from './lineBreakdown'
import { WithMore } from './WithMore'

type Sheet = Schemas['SheetBody']

interface LinesProps {
  body: Statement
  sheet: Sheet
  month: string
  line: string | null
  day: string | null
  /** The month it is compared with. */
  before: string
  choose: (name: string, value: string | null, drop?: string) => void
}

/** The usage lines, each to be opened, and under them what else stands on the statement. */
export function Lines({ body, sheet, month, line: opened, day, before, choose }: LinesProps) {
  const largest = Math.max(0.01, ...sheet.lines.map((each) => Math.abs(Number(minus(each.amount, each.before ?? '0')))))
  return (
    <table className="ledger lines">
      <thead>
        <tr>
          <th>Product</th>
          <th>Billing basis</th>
          <th className="fig">Quantity</th>
          <th className="fig">Overage</th>
          <th className="fig">Amount, {sheet.currency}</th>
          <th className="fig">Since {before}</th>
          <th>
            <span className="visually-hidden">Difference, as a bar</span>
          </th>
        </tr>
      </thead>
      <tbody>
        {sheet.lines.map((line) => {
          const isOpen = line.product === opened
          const change = minus(line.amount, line.before ?? '0')
          const width = Math.round((Math.abs(Number(change)) / largest) * 70)
          return [
            <tr key={line.product} className={isOpen ? 'open' : undefined}>
              <td className="product">
                <Opener
                  isOpen={isOpen}
                  name={line.product_name}
                  toggle={() => choose('line', isOpen ? null : line.product, 'day')}
                />
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
                  <Reckoning body={body} line={line} closed={sheet.number !== null} day={day} choose={choose} />
                </td>
              </tr>
            ),
          ]
        })}
        {sheet.others
          .filter((each) => each.kind !== 'tax')
          .map((each) => {
            const isOpen = each.kind === 'adjustment' && each.reference === opened
            const toggle = () => choose('line', isOpen ? null : each.reference, 'day')
            return [
              <Other
                key={`${each.kind} ${each.reference}`}
                row={each}
                isOpen={isOpen}
                toggle={each.kind === 'adjustment' ? toggle : undefined}
              />,
              isOpen && (
                <tr key={`${each.reference} open`}>
                  <td colSpan={7} style={{ padding: 0 }}>
                    <Adjustment
                      buyer={body.buyer}
                      month={month}
                      currency={sheet.currency}
                      reference={each.reference}
                      day={day}
                      choose={choose}
                    />
                  </td>
                </tr>
              ),
            ]
          })}
        {sheet.others.some((each) => each.kind === 'tax') && (
          <tr>
            <td>Before tax</td>
            <td colSpan={3} />
            <td className="fig">
              <b>{money(sheet.net)}</b>
            </td>
            <td colSpan={2} />
          </tr>
        )}
        {sheet.others
          .filter((each) => each.kind === 'tax')
          .map((each) => (
            <Other key={each.reference} row={each} />
          ))}
      </tbody>
      <tfoot>
        <tr>
          <td>{monthName(month)}</td>
          <td />
          <td />
          <td />
          <td className="fig">{money(sheet.total)}</td>
          <td className="fig">{signed(minus(sheet.total, sheet.before))}</td>
          <td />
        </tr>
      </tfoot>
    </table>
  )
}

function Opener({ isOpen, name, toggle }: { isOpen: boolean; name: string; toggle: () => void }) {
  return (
    <button type="button" aria-expanded={isOpen} onClick={toggle}>
      <span className="tw" aria-hidden="true">
        {isOpen ? '▾' : '▸'}
      </span>
      {name}
    </button>
  )
}

const KINDS: Record<string, string> = {
  charge: 'Charge',
  discount: 'Discount',
  credit: 'Credit',
  adjustment: 'Adjustment',
  tax: '',
}

/** A charge, discount, adjustment (which opens), credit or tax. */
function Other({ row, isOpen = false, toggle }: { row: Schemas['OtherRow']; isOpen?: boolean; toggle?: () => void }) {
  return (
    <tr className={isOpen ? 'other open' : 'other'}>
      {toggle ? (
        <td className="product">
          <Opener isOpen={isOpen} name={row.says || row.reference} toggle={toggle} />
        </td>
      ) : (
        <td>{row.says || row.reference}</td>
      )}
      <td className="quiet">
        {KINDS[row.kind]}
        {['charge', 'discount'].includes(row.kind) && <span className="small"> {row.reference}</span>}
        {row.base !== null && ` on ${money(row.base)}`}
      </td>
      <td className="fig">
        {row.quantity !== null && row.unit_price !== null && (
          <>
            {quantity(row.quantity)} <span className="quiet small">at {money(row.unit_price)}</span>
          </>
        )}
      </td>
      <td />
      <td className="fig">
        <b>{money(row.amount)}</b>
      </td>
      <td colSpan={2} />
    </tr>
  )
}

function Reckoning({
  body,
  line,
  closed,
  day,
  choose,
}: {
  body: Statement
  line: Line
  closed: boolean
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
        <WithMore buyer={body.buyer} month={body.month} line={line} closed={closed} />
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
