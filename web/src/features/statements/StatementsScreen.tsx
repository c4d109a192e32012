import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button } from 'react-bootstrap'
import { Link, useNavigate } from 'react-router'
import type { Schemas } from '../../api/client'
import { buyersSums, me, useCan } from '../../api/queries'
import { LIST_KEYS } from '../../commands/listKeys'
import { useCommands } from '../../commands/registry'
import { minus, money, percent, signed } from '../../domain/money'
import { dayName, dayOf, monthName, monthWord } from '../../domain/months'
import { FindField } from '../../components/FindField'
import { useAddress } from '../../components/address'
import { ExportMenu } from '../../components/ExportMenu'
import { useNarrow } from '../../components/useNarrow'
import { PagedGrid } from '../../components/PagedGrid'
import { Empty, Trouble, Wait } from '../../components/States'
import type { Column } from '../../components/VirtualTable'
import { CloseMonth } from './CloseMonth'
import { lastMonth, MonthBar } from './MonthBar'
import { JournalAccounts, MonthFiles } from './MonthFiles'
import { BUYER_SORTS, useBuyers, type Buyer } from './queries'
import { StatementTabs } from './StatementTabs'

type Summary = Schemas['BuyersSummary']

/** The columns that a month has something for; on a phone those after the amount are reached by scrolling. */
function columnsOf(summary: Summary, own: string | undefined, isNarrow: boolean): Column<Buyer>[] {
  const currency = summary.currencies.length === 1 ? summary.currencies[0] : undefined
  const several = summary.sellers > 1
  const marginOf = (row: Buyer) => (row.cost === null ? null : minus(row.amount, row.cost))
  return [
    {
      key: 'name',
      title: 'Buyer',
      width: isNarrow ? '216px' : 'minmax(226px, 1.2fr)',
      sort: true,
      cell: (row) => (
        <>
          <Link to={addressOf(row, summary.month)} tabIndex={-1} style={{ fontWeight: 620 }}>
            {row.name}
          </Link>
          {row.kind !== 'client' && <span className="tag">{row.kind}</span>}
          {row.unpriced > 0 && <span className="near small ms-2">△ {row.unpriced} without a price</span>}
        </>
      ),
    },
    ...(several && !isNarrow
      ? [
          {
            key: 'seller',
            title: 'Sold by',
            width: 'minmax(104px, 1fr)',
            sort: true,
            cell: (row: Buyer) => (
              <span className={row.seller === own ? 'quiet' : undefined} title={row.seller_name}>
                {row.seller_name}
              </span>
            ),
          },
        ]
      : []),
    ...(summary.numbered && !isNarrow
      ? [
          {
            key: 'number',
            title: 'Number',
            width: '120px',
            sort: true,
            cell: (row: Buyer) => <span className="quiet">{row.number ?? 'open'}</span>,
          },
        ]
      : []),
    {
      key: 'amount',
      title: `Before tax${currency ? `, ${currency}` : ''}`,
      width: 'minmax(136px, 0.4fr)',
      fig: true,
      sort: true,
      cell: (row) => (
        <b>
          {money(row.amount)}
          {!currency && ` ${row.currency}`}
        </b>
      ),
    },
    {
      key: 'change',
      title: 'Against last month',
      width: 'minmax(146px, 0.4fr)',
      fig: true,
      sort: true,
      cell: (row) => signed(minus(row.amount, row.before)),
    },
    ...(summary.costed
      ? [
          {
            key: 'cost',
            title: 'Cost',
            width: 'minmax(100px, 0.4fr)',
            fig: true,
            sort: true,
            cell: (row: Buyer) => (row.cost === null ? '–' : money(row.cost)),
          },
          {
            key: 'margin',
            title: 'Margin',
            width: 'minmax(100px, 0.4fr)',
            fig: true,
            sort: true,
            cell: (row: Buyer) => {
              const margin = marginOf(row)
              if (margin === null) return '–'
              return <span className={Number(margin) < 0 ? 'over' : undefined}>{money(margin)}</span>
            },
          },
          {
            key: 'percent',
            title: 'Margin, %',
            width: '96px',
            fig: true,
            sort: true,
            cell: (row: Buyer) => (
              <span className="quiet">{row.cost === null ? '–' : percent(marginOf(row) ?? '0', row.amount)}</span>
            ),
          },
        ]
      : []),
    {
      key: 'share',
      title: several ? 'Share of seller’s' : 'Share of total',
      width: '146px',
      fig: true,
      sort: true,
      cell: (row) => (
        <span className="sharebar">
          <span className="quiet">{percent(row.amount, row.of)}</span>
          <span className="track" aria-hidden="true">
            <i style={{ width: `${(Number(row.amount) / Math.max(0.01, Number(row.of))) * 100}%` }} />
          </span>
        </span>
      ),
    },
  ]
}

const addressOf = (row: Buyer, month: string) => `/statements/${encodeURIComponent(row.buyer)}?month=${month}`

/** What stands beneath the list: what the buyers found come to, where it is all in one currency. */
function footOf({ sums, sellers, costed }: Summary, own: string | undefined): Record<string, string> | undefined {
  const [only] = sums
  if (only === undefined || sums.length > 1) return undefined
  const margin = minus(only.costed, only.cost)
  return {
    name: `${only.buyers} ${only.buyers === 1 ? 'buyer' : 'buyers'}${sellers > 1 && own ? ` of ${own}` : ''}`,
    amount: money(only.amount),
    change: signed(minus(only.amount, only.before)),
    ...(costed && { cost: money(only.cost), margin: money(margin), percent: percent(margin, only.costed) }),
  }
}

/** What does each client owe? */
export default function StatementsScreen() {
  const who = useQuery(me).data
  const now = who?.now ?? new Date().toISOString()
  const own = who?.running
  const [params, change] = useAddress()
  const month = params.get('month') ?? lastMonth(now)
  const find = params.get('find') ?? ''
  const sort = BUYER_SORTS.find((each) => each === params.get('sort'))
  const down = params.get('down') === 'yes'
  const found = useQuery(buyersSums(month, find))
  const list = useBuyers(month, find, sort, down, found.data?.month === month && !found.isError)
  const isNarrow = useNarrow()
  const go = useNavigate()
  useCommands(LIST_KEYS)
  const [closing, setClosing] = useState(false)
  const [naming, setNaming] = useState(false)
  const [said, setSaid] = useState('')
  const closes = useCan('statements.close')
  const trouble = found.error ?? list.error
  if (trouble)
    return (
      <Trouble
        page="Statements"
        error={trouble}
        again={() => {
          void found.refetch()
          if (list.error) void list.refetch()
        }}
      />
    )
  if (!found.data) return <Wait what="the statements" />
  const summary = found.data
  const { days, days_read, closed } = summary
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
        {closes && !closed && month < dayOf(now).slice(0, 7) && summary.sells && (
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
        <ExportMenu
          path="/api/statements/export"
          params={{ month, find, sort, down: String(down) }}
          costs={summary.costed}
        >
          {own && summary.sells && (
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
      {list.total === undefined ? (
        <Wait what="the statements" />
      ) : list.total === 0 ? (
        <div className="scroll">
          <Empty title={summary.buyers ? 'No buyers found' : `Nothing to charge in ${monthName(month)}`}>
            {summary.buyers
              ? 'Change the search.'
              : 'No buyer held or used anything that has a price, or no day of it is over yet.'}
          </Empty>
        </div>
      ) : (
        <PagedGrid
          total={list.total}
          rowAt={list.rowAt}
          onShown={list.onShown}
          columns={columnsOf(summary, own?.account, isNarrow)}
          rowKey={(row) => `${row.buyer} ${row.currency}`}
          label={`Statements of ${monthName(month)}`}
          sorting={{ key: sort ?? '', down }}
          onSort={(next) => change({ sort: next.key, down: next.down ? 'yes' : null })}
          startsDown
          open={(row) => void go(addressOf(row, month))}
          comesHere
          foot={footOf(summary, isNarrow ? undefined : own?.name)}
        />
      )}
    </>
  )
}
