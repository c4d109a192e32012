import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button } from 'react-bootstrap'
import { Link } from 'react-router'
import type { Schemas } from '../../api/client'
import { buyers as buyersQuery, me, useCan } from '../../api/queries'
import { minus, money, percent, signed, sum } from '../../domain/money'
import { dayName, dayOf, monthName, monthWord } from '../../domain/months'
import { FindField } from '../../components/FindField'
import { useAddress } from '../../components/address'
import { ExportMenu } from '../../components/ExportMenu'
import { PrintMenu } from '../../components/PrintMenu'
import { Empty, Trouble, Wait } from '../../components/States'
import { sorted, VirtualTable, type Column, type Sorting } from '../../components/VirtualTable'
import { CloseMonth } from './CloseMonth'
import { lastMonth, MonthBar } from './MonthBar'
import { JournalAccounts, MonthFiles } from './MonthFiles'
import { StatementTabs } from './StatementTabs'

type Buyer = Schemas['Buyer']
const byNumber = (figure: (row: Buyer) => string | null) => (one: Buyer, other: Buyer) =>
  Number(figure(one) ?? 0) - Number(figure(other) ?? 0)

/** What does each client owe? */
export default function StatementsScreen() {
  const who = useQuery(me).data
  const now = who?.now ?? new Date().toISOString()
  const own = who?.running
  const [params, change] = useAddress()
  const month = params.get('month') ?? lastMonth(now)
  const found = useQuery(buyersQuery(month))
  const find = params.get('find') ?? ''
  const [sorting, setSorting] = useState<Sorting>()
  const [closing, setClosing] = useState(false)
  const [naming, setNaming] = useState(false)
  const [said, setSaid] = useState('')
  const closes = useCan('statements.close')
  if (found.isError) return <Trouble page="Statements" error={found.error} again={() => void found.refetch()} />
  if (!found.data) return <Wait what="the statements" />
  const { buyers, days, days_read, closed } = found.data
  const words = find.toLowerCase().split(/\s+/).filter(Boolean)
  const shown = buyers.filter((each) =>
    words.every((word) => `${each.name} ${each.buyer}`.toLowerCase().includes(word)),
  )
  const totals = new Map<string, string>()
  for (const each of buyers)
    totals.set(
      `${each.seller} ${each.currency}`,
      sum([totals.get(`${each.seller} ${each.currency}`) ?? '0', each.amount]),
    )
  const nameOf = (seller: string) =>
    seller === own?.account ? own.name : (buyers.find((each) => each.buyer === seller)?.name ?? seller)
  const sellers = new Set(buyers.map((each) => each.seller))
  const currencies = new Set(buyers.map((each) => each.currency).filter(Boolean))
  const currency = currencies.size === 1 ? [...currencies][0] : undefined
  const costs = shown.some((each) => each.cost !== null)
  const share = (row: Buyer) =>
    Number(row.amount) / Math.max(0.01, Number(totals.get(`${row.seller} ${row.currency}`) ?? '0'))
  const columns: Column<Buyer>[] = [
    {
      key: 'name',
      title: 'Buyer',
      width: 'minmax(214px, 2fr)',
      sort: (one, other) => one.name.localeCompare(other.name),
      cell: (row) => (
        <>
          <Link to={`/statements/${encodeURIComponent(row.buyer)}?month=${month}`} style={{ fontWeight: 620 }}>
            {row.name}
          </Link>
          {row.kind !== 'client' && <span className="tag">{row.kind}</span>}
          {row.unpriced > 0 && <span className="near small ms-2">△ {row.unpriced} without a price</span>}
        </>
      ),
    },
    ...(sellers.size > 1
      ? [
          {
            key: 'seller',
            title: 'Sold by',
            width: 'minmax(104px, 1.2fr)',
            sort: (one: Buyer, other: Buyer) => one.seller.localeCompare(other.seller),
            cell: (row: Buyer) => <span className="quiet">{nameOf(row.seller)}</span>,
          },
        ]
      : []),
    ...(buyers.some((each) => each.number !== null)
      ? [
          {
            key: 'number',
            title: 'Number',
            width: '120px',
            sort: (one: Buyer, other: Buyer) => (one.number ?? '').localeCompare(other.number ?? ''),
            cell: (row: Buyer) => <span className="quiet">{row.number ?? 'open'}</span>,
          },
        ]
      : []),
    {
      key: 'amount',
      title: `Before tax${currency ? `, ${currency}` : ''}`,
      width: 'minmax(124px, 1fr)',
      fig: true,
      sort: byNumber((row) => row.amount),
      cell: (row) => (
        <b>
          {money(row.amount)}
          {!currency && ` ${row.currency}`}
        </b>
      ),
    },
    {
      key: 'before',
      title: 'Against last month',
      width: 'minmax(146px, 1fr)',
      fig: true,
      sort: byNumber((row) => minus(row.amount, row.before)),
      cell: (row) => signed(minus(row.amount, row.before)),
    },
    ...(costs
      ? [
          {
            key: 'cost',
            cost: true,
            title: 'Cost',
            width: 'minmax(100px, 1fr)',
            fig: true,
            sort: byNumber((row) => row.cost),
            cell: (row: Buyer) => (row.cost === null ? '–' : money(row.cost)),
          },
          {
            key: 'margin',
            cost: true,
            title: 'Margin',
            width: 'minmax(100px, 1fr)',
            fig: true,
            sort: byNumber((row) => (row.cost === null ? null : minus(row.amount, row.cost))),
            cell: (row: Buyer) =>
              row.cost === null ? (
                '–'
              ) : (
                <span className={Number(minus(row.amount, row.cost)) < 0 ? 'over' : undefined}>
                  {money(minus(row.amount, row.cost))}
                </span>
              ),
          },
          {
            key: 'percent',
            cost: true,
            title: 'Margin, %',
            width: '96px',
            fig: true,
            cell: (row: Buyer) => (
              <span className="quiet">
                {row.cost === null ? '–' : percent(minus(row.amount, row.cost), row.amount)}
              </span>
            ),
          },
        ]
      : []),
    {
      key: 'share',
      title: sellers.size > 1 ? 'Share of seller’s' : 'Share of total',
      width: '150px',
      fig: true,
      cell: (row) => (
        <span className="sharebar">
          <span className="quiet">{percent(row.amount, totals.get(`${row.seller} ${row.currency}`) ?? '0')}</span>
          <span className="track" aria-hidden="true">
            <i style={{ width: `${share(row) * 100}%` }} />
          </span>
        </span>
      ),
    },
  ]
  const rows = sorted(shown, columns, sorting)
  // What resellers charge on is theirs: the sums are of what one sells oneself.
  const mine = sellers.size > 1 ? shown.filter((each) => each.seller === own?.account) : shown
  const amount = sum(mine.map((each) => each.amount))
  const before = sum(mine.map((each) => each.before))
  const known = mine.filter((each) => each.cost !== null)
  const cost = sum(known.map((each) => each.cost ?? '0'))
  const margin = minus(sum(known.map((each) => each.amount)), cost)
  return (
    <>
      <div className="bar tightbar">
        <h1>Statements</h1>
        <StatementTabs at="statements" />
        <MonthBar
          month={month}
          present={dayOf(now).slice(0, 7)}
          address={(each) => `/statements?month=${each}`}
          choose={(each) => change({ month: each })}
        />
        <span className="quiet small" title={closed ? `by ${closed.by}` : undefined}>
          {closed
            ? `closed ${dayName(dayOf(closed.at))}`
            : days_read === days
              ? ''
              : days_read === 0
                ? 'no day read yet'
                : `${days_read} of ${days} days read`}
        </span>
        <span className="grow" />
        <span role="status" className="small good">
          {said} {said && <Link to="/payments?state=unsent">Send them</Link>}
        </span>
        {closes && !closed && month < dayOf(now).slice(0, 7) && buyers.some((each) => each.seller === own?.account) && (
          <Button size="sm" variant="outline-primary" onClick={() => setClosing(true)}>
            Close {monthWord(month)}…
          </Button>
        )}
        <FindField
          label="Find a buyer"
          group="Statements"
          find={find}
          onFind={(words) => change({ find: words })}
          width={118}
          placeholder="Find a buyer  /"
        />
        <PrintMenu costs={costs} />
        <ExportMenu path="/api/statements/export" params={{ month }}>
          {own && buyers.some((each) => each.seller === own.account) && (
            <MonthFiles seller={own.account} month={month} closed={closed !== null} name={() => setNaming(true)} />
          )}
        </ExportMenu>
      </div>
      {naming && own && <JournalAccounts seller={own.account} close={() => setNaming(false)} />}
      {closing && own && (
        <CloseMonth
          seller={own.account}
          month={month}
          close={() => setClosing(false)}
          done={(text) => {
            setSaid(text)
            setClosing(false)
          }}
        />
      )}
      {rows.length === 0 ? (
        <div className="scroll">
          <Empty title={buyers.length ? 'No buyers found' : `Nothing to charge in ${monthName(month)}`}>
            {buyers.length
              ? 'Change the search.'
              : 'No buyer held or used anything that has a price, or no day of it is over yet.'}
          </Empty>
        </div>
      ) : (
        <VirtualTable
          rows={rows}
          columns={columns}
          rowKey={(row) => `${row.buyer} ${row.currency}`}
          label={`Statements of ${monthName(month)}`}
          sorting={sorting}
          onSort={setSorting}
          foot={
            mine.length > 0 && currency
              ? columns.map((column) => (
                  <div
                    role="cell"
                    key={column.key}
                    className={column.cost ? 'fig costs' : column.fig ? 'fig' : undefined}
                  >
                    {{
                      name: `${mine.length} ${mine.length === 1 ? 'buyer' : 'buyers'}${sellers.size > 1 ? ` of ${own?.name ?? ''}` : ''}`,
                      amount: money(amount),
                      before: signed(minus(amount, before)),
                      cost: money(cost),
                      margin: money(margin),
                      percent: percent(margin, sum(known.map((each) => each.amount))),
                    }[column.key] ?? ''}
                  </div>
                ))
              : undefined
          }
        />
      )}
    </>
  )
}
