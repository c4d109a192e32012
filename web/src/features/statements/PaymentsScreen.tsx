import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button } from 'react-bootstrap'
import { Link, useNavigate } from 'react-router'
import { api, take } from '../../api/client'
import { me, useCan } from '../../api/queries'
import { useAction } from '../../api/useAction'
import { FindField } from '../../components/FindField'
import { LIST_KEYS } from '../../commands/listKeys'
import { useCommands } from '../../commands/registry'
import { useAddress } from '../../components/address'
import { ExportMenu } from '../../components/ExportMenu'
import { useOutcome } from '../../components/Outcome'
import { PagedGrid } from '../../components/PagedGrid'
import { Empty, Trouble, Wait } from '../../components/States'
import { useMarked } from '../../components/usePages'
import type { Column } from '../../components/VirtualTable'
import { money, sum } from '../../domain/money'
import { dayOf, monthName, shortDay } from '../../domain/months'
import { whole } from '../../domain/units'
import { BankFile } from './BankFile'
import { PaymentDialog } from './PaymentDialog'
import { CHANGES, sentWords, sums as sumsQuery, useReceivables, type Receivable, type StateAsked } from './queries'
import { StatementTabs } from './StatementTabs'

const STATES: [StateAsked | '', string][] = [
  ['', 'All'],
  ['unsent', 'Not sent'],
  ['open', 'Open'],
  ['overdue', 'Overdue'],
  ['paid', 'Paid'],
  ['asked', 'With questions'],
]
const COUNTED = new Set(['unsent', 'open', 'overdue', 'asked'])

function columns(today: string): Column<Receivable>[] {
  return [
    {
      key: 'buyer',
      title: 'Buyer',
      width: 'minmax(170px, 2fr)',
      cell: (row) => (
        <Link to={addressOf(row)} tabIndex={-1} style={{ fontWeight: 620 }}>
          {row.buyer_name}
        </Link>
      ),
    },
    { key: 'month', title: 'Month', width: '126px', cell: (row) => monthName(row.month) },
    { key: 'number', title: 'Number', width: '104px', cell: (row) => <span className="quiet">{row.number}</span> },
    {
      key: 'total',
      title: 'Total',
      width: '128px',
      fig: true,
      cell: (row) => (
        <>
          {money(row.total)} <span className="quiet small">{row.currency}</span>
        </>
      ),
    },
    {
      key: 'open',
      title: 'Open',
      width: '110px',
      fig: true,
      cell: (row) => (Number(row.open) === 0 ? '–' : <b>{money(row.open)}</b>),
    },
    { key: 'state', title: 'State', width: 'minmax(148px, 1fr)', cell: (row) => <StateOf row={row} today={today} /> },
    { key: 'sent', title: 'Sent', width: 'minmax(140px, 1.2fr)', cell: (row) => <SentOf row={row} /> },
    {
      key: 'asked',
      title: 'Questions',
      width: '92px',
      fig: true,
      cell: (row) => (row.asked ? <b className="near">{row.asked} open</b> : '–'),
    },
  ]
}

const addressOf = (row: Receivable) =>
  `/statements/${encodeURIComponent(row.buyer)}?month=${row.month}&currency=${row.currency}`

/** How far the payment of a statement is, in a word. */
export function StateOf({ row, today }: { row: Receivable; today: string }) {
  const days = row.due ? Math.round((Date.parse(today) - Date.parse(row.due)) / 86_400_000) : 0
  const due = row.due ? shortDay(row.due) : ''
  switch (row.state) {
    case 'nothing':
      return <span className="quiet">nothing due</span>
    case 'paid':
      return <span className="good">paid</span>
    case 'credit':
      return <span className="near">credit to pay back</span>
    case 'overdue':
      return (
        <span className="over">
          ▲ {whole(days)} {days === 1 ? 'day' : 'days'} overdue
        </span>
      )
    case 'open':
      return <>{row.due ? `due ${due}` : 'open, no due date'}</>
  }
}

function SentOf({ row }: { row: Receivable }) {
  if (!row.mailed) return <span className="near">not sent</span>
  const { state, at, to_address, trouble } = row.mailed
  return state === 'sent' ? (
    <span title={to_address}>
      {shortDay(dayOf(at))}
      {row.reminded && <span className="quiet">, reminded {shortDay(dayOf(row.reminded))}</span>}
    </span>
  ) : state === 'waiting' ? (
    <span className="quiet" title={trouble ?? undefined}>
      {trouble ? 'being tried again' : 'on the way'}
    </span>
  ) : (
    <span className="over" title={trouble ?? undefined}>
      ■ not delivered
    </span>
  )
}

/** Who has paid, who has not, and who has not even got the statement? */
export default function PaymentsScreen() {
  const who = useQuery(me).data
  const own = who?.running
  const seller = own?.account ?? ''
  const [params, change] = useAddress()
  const state = STATES.find(([key]) => key === params.get('state'))?.[0] || undefined
  const find = params.get('find') ?? ''
  const found = useReceivables(seller, { state, find })
  const sums = useQuery(sumsQuery(seller)).data
  const settles = useCan('statements.settle')
  const { marked, isMarked, mark, clear } = useMarked(found.rowAt, (row) => row.number)
  const [paying, setPaying] = useState<Receivable | null>(null)
  const [bank, setBank] = useState(false)
  const outcome = useOutcome()
  const go = useNavigate()
  useCommands(LIST_KEYS)
  const { run, busy, trouble } = useAction(...CHANGES)
  if (!who || !own) return <Wait what="the payments" />
  const today = dayOf(who.now)
  const count = (name: 'unsent' | 'open' | 'overdue' | 'asked') => sums?.reduce((all, each) => all + each[name], 0) ?? 0
  const post = (what: 'send' | 'remind', numbers: string[] | null) =>
    run(async () => {
      const sent = await take(
        api.POST(`/api/receivables/{seller}/${what}`, { params: { path: { seller } }, body: { numbers } }),
      )
      outcome(sentWords(sent, what === 'send' ? 'statement' : 'reminder'))
      clear()
    })
  const numbers = marked.map((each) => each.number)
  const [only] = marked
  return (
    <>
      <div className="bar tightbar">
        <h1>Payments</h1>
        <StatementTabs at="payments" />
        <span className="seg" role="group" aria-label="Which statements">
          {STATES.map(([key, says]) => (
            <button
              type="button"
              key={key}
              aria-pressed={(state ?? '') === key}
              onClick={() => {
                clear()
                change({ state: key || null })
              }}
            >
              {says}
              {COUNTED.has(key) && count(key as 'open') > 0 && <em>{count(key as 'open')}</em>}
            </button>
          ))}
        </span>
        <FindField
          label="Find a buyer or number"
          group="Payments"
          find={find}
          onFind={(words) => change({ find: words })}
          width={92}
        />
        <span className="grow" />
        {settles && count('unsent') > 0 && (
          <Button variant="outline-primary" disabled={busy} onClick={() => void post('send', null)}>
            Send {count('unsent')} not sent
          </Button>
        )}
        {settles && count('overdue') > 0 && (
          <Button variant="outline-primary" disabled={busy} onClick={() => void post('remind', null)}>
            Remind overdue
          </Button>
        )}
        {settles && (
          <Button variant="outline-primary" onClick={() => setBank(true)}>
            Bank file…
          </Button>
        )}
        <ExportMenu
          path={`/api/receivables/${encodeURIComponent(seller)}/export`}
          named="payments"
          params={{ ...(state && { state }), find }}
        />
      </div>
      {sums && sums.length > 0 && (
        <div className="sums">
          {sums.map((each) => [
            <div className="main" key={each.currency}>
              <span>Open, {each.currency}</span>
              <b>{money(each.open_amount)}</b>
            </div>,
            <div key={`${each.currency} overdue`}>
              <span>of that, overdue</span>
              <b className={Number(each.overdue_amount) > 0 ? 'over' : undefined}>{money(each.overdue_amount)}</b>
            </div>,
          ])}
        </div>
      )}
      {trouble && (
        <p className="over px-3 mb-1" role="alert">
          {trouble}
        </p>
      )}
      {found.error ? (
        <Trouble error={found.error} again={() => void found.refetch()} />
      ) : found.total === undefined ? (
        <Wait what="the payments" />
      ) : found.total === 0 ? (
        <Empty title={state || find ? 'None here' : 'No closed month yet'}>
          {state || find ? (
            'Choose another state, or change the search.'
          ) : (
            <>
              Close a month under{' '}
              <Link to="/statements" className="text-decoration-underline">
                Statements
              </Link>
              : its statements are sent and settled here.
            </>
          )}
        </Empty>
      ) : (
        <PagedGrid
          key={state ?? 'all'}
          total={found.total}
          rowAt={found.rowAt}
          onShown={found.onShown}
          columns={columns(today)}
          rowKey={(row) => row.number}
          label="Closed statements"
          sorting={{ key: '', down: true }}
          onSort={() => undefined}
          isMarked={isMarked}
          mark={mark}
          markAll={(on) => (on ? mark(0, Math.min(found.total ?? 1, 500) - 1, true) : clear())}
          comesHere
          open={(row) => void go(addressOf(row))}
        />
      )}
      {marked.length > 0 && settles && (
        <section className="draftbar actbar" aria-label="Chosen statements">
          <span>
            <b>{marked.length} chosen</b>
            {new Set(marked.map((each) => each.currency)).size === 1 && (
              <span className="quiet">
                , {money(sum(marked.map((each) => each.open)))} {only?.currency} open
              </span>
            )}{' '}
            <button type="button" className="btn btn-link btn-sm p-0" aria-label="Clear selection" onClick={clear}>
              ×
            </button>
          </span>
          <Button size="sm" variant="outline-primary" disabled={busy} onClick={() => void post('send', numbers)}>
            {marked.some((each) => each.mailed) ? 'Send again' : 'Send'}
          </Button>
          {marked.every((each) => each.state === 'overdue') && (
            <Button size="sm" variant="outline-primary" disabled={busy} onClick={() => void post('remind', numbers)}>
              Remind
            </Button>
          )}
          {marked.length === 1 && only && Number(only.total) !== 0 && (
            <Button size="sm" variant="outline-primary" onClick={() => setPaying(only)}>
              Record payment…
            </Button>
          )}
        </section>
      )}
      {paying && (
        <PaymentDialog
          seller={seller}
          row={paying}
          today={today}
          close={() => setPaying(null)}
          done={(said) => {
            setPaying(null)
            outcome(said)
            clear()
          }}
        />
      )}
      {bank && (
        <BankFile
          seller={seller}
          close={() => setBank(false)}
          done={(said) => {
            setBank(false)
            outcome(said)
          }}
        />
      )}
    </>
  )
}
