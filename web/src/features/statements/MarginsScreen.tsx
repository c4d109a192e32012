import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { Form } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { me, useCan } from '../../api/queries'
import { useAddress } from '../../components/address'
import { ExportMenu } from '../../components/ExportMenu'
import { Empty, Trouble, Wait } from '../../components/States'
import { minus, money, percent, sum } from '../../domain/money'
import { dayOf, monthName } from '../../domain/months'
import { lastMonth, MonthBar } from './MonthBar'
import { StatementTabs } from './StatementTabs'

type MarginRow = Schemas['MarginRow']
type PoolRow = Schemas['PoolMarginRow']

const marginsOf = (month: string) => ({
  queryKey: ['statements', 'margins', month],
  queryFn: () => take(api.GET('/api/statements/margins', { params: { query: { month } } })),
  placeholderData: keepPreviousData,
})
const poolsOf = (month: string) => ({
  queryKey: ['statements', 'margins', 'pools', month],
  queryFn: () => take(api.GET('/api/statements/margins/pools', { params: { query: { month } } })),
  placeholderData: keepPreviousData,
})

interface Figures {
  currency: string
  charged: string
  /** Null where it is not known of all. */
  cost: string | null
}

/** What rows come to together, a currency each. */
function added(rows: MarginRow[]): Figures[] {
  return [...new Set(rows.map((each) => each.currency))].sort().map((currency) => {
    const mine = rows.filter((each) => each.currency === currency)
    const costs = mine.flatMap((each) => (each.cost === null ? [] : [each.cost]))
    return {
      currency,
      charged: sum(mine.map((each) => each.charged)),
      cost: costs.length === mine.length ? sum(costs) : null,
    }
  })
}

/** What does one earn, on which product, and what costs money without being held by anybody? */
export default function MarginsScreen() {
  const who = useQuery(me).data
  const now = who?.now ?? new Date().toISOString()
  const [params, change] = useAddress()
  const month = params.get('month') ?? lastMonth(now)
  const found = useQuery(marginsOf(month))
  const seesPools = useCan('pools.see')
  const pools = useQuery({ ...poolsOf(month), enabled: seesPools })
  if (found.isError) return <Trouble page="Margin" error={found.error} again={() => void found.refetch()} />
  if (!found.data || !who) return <Wait what="the margins" />
  const sellers = [...new Map(found.data.map((each) => [each.seller, each.seller_name]))]
  const owners = pools.data?.rows.map((each): [string, string] => [each.owner, each.owner_name]) ?? []
  const whose = [...new Map([...sellers, ...owners])]
  const asked = params.get('seller')
  const seller = whose.find(([code]) => code === asked)?.[0] ?? who.running.account
  const mine = found.data.filter((each) => each.seller === seller)
  const ours = pools.data?.rows.filter((each) => each.owner === seller) ?? []
  return (
    <>
      <div className="bar tightbar">
        <h1>Margin</h1>
        <StatementTabs at="margins" />
        <MonthBar
          month={month}
          present={dayOf(now).slice(0, 7)}
          address={(each) => `/margins?month=${each}${asked ? `&seller=${encodeURIComponent(asked)}` : ''}`}
          choose={(each) => change({ month: each })}
        />
        {whose.length > 1 && (
          <Form.Select
            aria-label="Seller or owner"
            value={seller}
            style={{ width: 'auto' }}
            onChange={(event) => change({ seller: event.target.value })}
          >
            {whose.map(([code, name]) => (
              <option key={code} value={code}>
                {name}
              </option>
            ))}
          </Form.Select>
        )}
        <span className="grow" />
        <ExportMenu path="/api/statements/margins/export" params={{ month }} costs />
      </div>
      <div className="scroll margins">
        {mine.length === 0 ? (
          <Empty title={`Nothing charged in ${monthName(month)}`}>
            No buyer held or used anything that has a price, or no day of it is over yet.
          </Empty>
        ) : (
          <section aria-labelledby="by-product">
            <h2 className="sub" id="by-product">
              By product <span className="quiet">usage, before charges, discounts and tax</span>
            </h2>
            <table className="ledger tight">
              <thead>
                <tr>
                  <th>Product</th>
                  <Heads />
                </tr>
              </thead>
              <tbody>
                {mine.map((each) => (
                  <tr key={`${each.product} ${each.currency}`}>
                    <td>
                      {each.product_name}{' '}
                      <span className="quiet small">
                        {each.buyers} {each.buyers === 1 ? 'buyer' : 'buyers'}
                      </span>
                    </td>
                    <Cells of={each} />
                  </tr>
                ))}
              </tbody>
              <tfoot>
                {added(mine).map((each) => (
                  <tr key={each.currency}>
                    <th scope="row">Together</th>
                    <Cells of={each} />
                  </tr>
                ))}
              </tfoot>
            </table>
          </section>
        )}
        {sellers.length > 1 && (
          <section aria-labelledby="by-seller">
            <h2 className="sub" id="by-seller">
              By seller
            </h2>
            <table className="ledger tight">
              <thead>
                <tr>
                  <th>Sold by</th>
                  <Heads />
                </tr>
              </thead>
              <tbody>
                {sellers.flatMap(([code, name]) =>
                  added(found.data.filter((each) => each.seller === code)).map((each) => (
                    <tr key={`${code} ${each.currency}`}>
                      <td>
                        <button
                          type="button"
                          className="btn btn-link p-0"
                          aria-pressed={code === seller}
                          onClick={() => change({ seller: code })}
                        >
                          {name}
                        </button>
                      </td>
                      <Cells of={each} />
                    </tr>
                  )),
                )}
              </tbody>
            </table>
          </section>
        )}
        {pools.isError && <Trouble error={pools.error} again={() => void pools.refetch()} />}
        {ours.length > 0 && pools.data && (
          <section aria-labelledby="idle-pools">
            <h2 className="sub" id="idle-pools">
              Pools <span className="quiet">what each cost, and what of that is unallocated</span>
            </h2>
            <table className="ledger tight">
              <thead>
                <tr>
                  <th>Pool</th>
                  <th className="fig">Cost</th>
                  <th className="fig wide">Own use</th>
                  <th className="fig">Unallocated</th>
                  <th className="fig">Unallocated, %</th>
                  <th className="wide">Unallocated over 12 months</th>
                </tr>
              </thead>
              <tbody>
                {ours.map((each) => (
                  <tr key={`${each.product} ${each.currency}`}>
                    <td>{each.product_name}</td>
                    <td className="fig">
                      {money(each.cost)} {each.currency}
                    </td>
                    <td className="fig wide">{money(each.own)}</td>
                    <td className="fig">
                      <b>{money(each.idle)}</b>
                    </td>
                    <td className="fig quiet">{percent(each.idle, each.cost)}</td>
                    <td className="wide">
                      <IdleBars row={each} months={pools.data.months} />
                    </td>
                  </tr>
                ))}
              </tbody>
              <tfoot>
                {[...new Set(ours.map((each) => each.currency))].map((currency) => {
                  const of = (figure: (row: PoolRow) => string) =>
                    sum(ours.filter((each) => each.currency === currency).map(figure))
                  const [cost, idle] = [of((each) => each.cost), of((each) => each.idle)]
                  return (
                    <tr key={currency}>
                      <th scope="row">Together</th>
                      <td className="fig">
                        {money(cost)} {currency}
                      </td>
                      <td className="fig wide">{money(of((each) => each.own))}</td>
                      <td className="fig">{money(idle)}</td>
                      <td className="fig quiet">{percent(idle, cost)}</td>
                      <td className="wide" />
                    </tr>
                  )
                })}
              </tfoot>
            </table>
          </section>
        )}
      </div>
    </>
  )
}

function Heads() {
  return (
    <>
      <th className="fig">Charged</th>
      <th className="fig">Cost</th>
      <th className="fig">Margin</th>
      <th className="fig">Margin, %</th>
    </>
  )
}

function Cells({ of }: { of: Figures }) {
  const margin = of.cost === null ? null : minus(of.charged, of.cost)
  return (
    <>
      <td className="fig">
        {money(of.charged)} {of.currency}
      </td>
      <td className="fig">{of.cost === null ? '–' : money(of.cost)}</td>
      <td className={margin !== null && Number(margin) < 0 ? 'fig over' : 'fig'}>
        {margin === null ? '–' : <b>{money(margin)}</b>}
      </td>
      <td className="fig quiet">{margin === null ? '–' : percent(margin, of.charged)}</td>
    </>
  )
}

const [BAR, GAP, HEIGHT] = [10, 3, 22]

/** What was unallocated in each of twelve months, as bars; a month that is not worked out yet is a line. */
function IdleBars({ row, months }: { row: PoolRow; months: string[] }) {
  const most = Math.max(1e-9, ...row.idle_before.map((each) => Number(each ?? 0)))
  const said = row.idle_before.map((each, n) => `${monthName(months[n] ?? '')}: ${each === null ? '–' : money(each)}`)
  return (
    <svg
      className="idlebars"
      width={months.length * (BAR + GAP)}
      height={HEIGHT}
      role="img"
      aria-label={`Unallocated, ${row.currency}. ${said.join('; ')}`}
    >
      {row.idle_before.map((each, n) => {
        const tall = each === null ? 0 : Math.max(1, (Number(each) / most) * HEIGHT)
        return (
          <rect key={months[n]} x={n * (BAR + GAP)} y={HEIGHT - tall} width={BAR} height={tall}>
            <title>{said[n]}</title>
          </rect>
        )
      })}
      <line x1={0} x2={months.length * (BAR + GAP) - GAP} y1={HEIGHT - 0.5} y2={HEIGHT - 0.5} />
    </svg>
  )
}
