import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { useAddress } from '../../components/address'
import { ExportMenu } from '../../components/ExportMenu'
import { FindField } from '../../components/FindField'
import { useOutcome } from '../../components/Outcome'
import { Empty, Trouble, Wait } from '../../components/States'
import { usePages } from '../../components/usePages'
import { VirtualTable, type Column } from '../../components/VirtualTable'
import { money } from '../../domain/money'
import { dayName } from '../../domain/months'
import { whole } from '../../domain/units'
import { LoadTerms } from './LoadTerms'
import { called, CHOICES, KINDS, named, type Cells, type Name } from './terms'
import { TermsDialog } from './TermsDialog'

/** Where words are looked for only from so many rows on. */
const MANY = 15

/** A column of what is shown: some cells together. */
interface Shown {
  title: string
  cells: string[]
  width: number
  /** Whether it takes what room there is. */
  grows?: boolean
  fig?: boolean
}

const FROM_TO: Shown = { title: 'Days', cells: ['first_day', 'last_day'], width: 202 }
const BUYER: Shown = { title: 'Buyer', cells: ['buyer'], width: 184, grows: true }
const REFERENCE: Shown = { title: 'Reference', cells: ['reference'], width: 124 }
const CLASS: Shown = { title: 'Tax class', cells: ['tax_class'], width: 86 }
const PERCENT: Shown = { title: 'Percent', cells: ['percent'], width: 84, fig: true }
const COLUMNS: Record<Name, Shown[]> = {
  charges: [
    BUYER,
    REFERENCE,
    { title: 'Description', cells: ['description'], width: 140, grows: true },
    CLASS,
    { title: 'Charge', cells: ['quantity', 'unit_price', 'currency'], width: 120, fig: true },
    { title: 'Charged', cells: ['every', 'fees'], width: 148 },
    FROM_TO,
  ],
  discounts: [
    BUYER,
    { ...REFERENCE, width: 148 },
    { title: 'Off', cells: ['product'], width: 150, grows: true },
    PERCENT,
    { title: 'Ceiling in all', cells: ['ceiling', 'currency'], width: 124, fig: true },
    FROM_TO,
  ],
  credits: [BUYER, REFERENCE, { title: 'Amount', cells: ['amount', 'currency'], width: 124, fig: true }, FROM_TO],
  tax_rates: [CLASS, { title: 'From', cells: ['first_day'], width: 112 }, PERCENT],
  exchange_rates: [
    { title: 'Day', cells: ['day'], width: 112 },
    { title: '1 of', cells: ['from'], width: 72 },
    { title: 'Is so many', cells: ['to'], width: 96 },
    { title: 'Rate', cells: ['rate'], width: 112, fig: true },
  ],
}
const ACTIONS = 138

/** A row, and what its buyer is called. */
interface Row {
  cells: Cells
  buyer?: string
}

/** What a seller charges, gives off and taxes besides its prices: a table of it at a time. */
export function Terms({
  prices,
  changes,
  isOperator,
}: {
  prices: Schemas['PricesBody']
  changes: boolean
  isOperator: boolean
}) {
  const { seller } = prices
  const [params, change] = useAddress()
  const find = params.get('find') ?? ''
  const tables = useQuery({
    queryKey: ['statements', 'terms', seller],
    queryFn: () => take(api.GET('/api/terms/{seller}', { params: { path: { seller } } })),
  })
  const table = tables.data?.find((each) => each.table === params.get('terms')) ?? tables.data?.[0]
  const list = usePages(
    ['statements', 'terms', seller, table?.table, find],
    async (offset, limit) => {
      const path = { seller, table: table?.table ?? 'charges' }
      const found = await take(
        api.GET('/api/terms/{seller}/{table}', { params: { path, query: { find, offset, limit } } }),
      )
      const rows = found.rows.map((cells): Row => ({ cells, buyer: found.names[cells.buyer ?? ''] }))
      return { total: found.total, rows }
    },
    undefined,
    undefined,
    table !== undefined,
  )
  const [editing, setEditing] = useState<{ row: Cells | null } | null>(null)
  const [loading, setLoading] = useState(false)
  const outcome = useOutcome()
  const { run, busy, trouble } = useAction('statements', 'log')
  const failed = tables.error ?? list.error
  if (failed) return <Trouble error={failed} again={() => void Promise.all([tables.refetch(), list.refetch()])} />
  if (!tables.data || !table) return <Wait what="the terms" />
  const kind = KINDS[table.table]
  const may = changes && (table.table !== 'exchange_rates' || isOperator)
  const path = { seller, table: table.table }
  const put = (cells: Cells) =>
    run(async () => {
      await take(api.PUT('/api/terms/{seller}/{table}', { params: { path }, body: { cells } }))
    })
  const remove = (row: Cells) =>
    run(async () => {
      const cells = Object.fromEntries(table.key.map((name) => [name, row[name] ?? '']))
      await take(api.POST('/api/terms/{seller}/{table}/remove', { params: { path }, body: { cells } }))
      outcome(`${named(table, row)} removed.`, { label: 'Undo', run: () => void put(row) })
    })
  const shows = COLUMNS[table.table]
  const columns = shows.map(({ title, cells: some, width, grows, fig }): Column<Row> => ({
    key: title,
    title,
    width: grows ? `minmax(${width}px, 1fr)` : `${width}px`,
    fig,
    cell: ({ cells, buyer }) =>
      some[0] === 'buyer' ? (
        <span title={buyer}>{buyer ?? cells.buyer}</span>
      ) : (
        shown(some, (name) => cells[name] ?? '', prices)
      ),
  }))
  if (may)
    columns.push({
      key: 'do',
      title: 'Actions',
      width: `${ACTIONS}px`,
      cell: ({ cells }) => (
        <>
          <Button
            size="sm"
            variant="link"
            className="p-0 me-2"
            aria-label={`Change ${called(table, cells)}`}
            onClick={() => setEditing({ row: cells })}
          >
            Change
          </Button>
          <Button
            size="sm"
            variant="link"
            className="p-0"
            disabled={busy}
            aria-label={`Remove ${called(table, cells)}`}
            onClick={() => void remove(cells)}
          >
            Remove
          </Button>
        </>
      ),
    })
  const wide = shows.reduce((all, each) => all + each.width, may ? ACTIONS : 0)
  const rows = Array.from({ length: list.total ?? 0 }, (_, place) => list.rowAt(place))
  const done = (said: string) => {
    setEditing(null)
    setLoading(false)
    outcome(said)
  }
  return (
    <section className="termslist" aria-label="Terms">
      <div className="bar tightbar flat">
        <span className="seg" role="group" aria-label="Which terms">
          {tables.data.map((each) => (
            <button
              type="button"
              key={each.table}
              aria-pressed={each.table === table.table}
              onClick={() => change({ terms: each.table, find: null })}
            >
              {KINDS[each.table].title}
              {each.total > 0 && <em>{whole(each.total)}</em>}
            </button>
          ))}
        </span>
        {(find || table.total > MANY) && (
          <FindField
            key={table.table}
            label={`Find a ${kind.one}`}
            group="Prices"
            find={find}
            onFind={(words) => change({ find: words })}
          />
        )}
        <span className="grow" />
        {table.total > 0 && (
          <ExportMenu
            path={`/api/terms/${encodeURIComponent(seller)}/${table.table}/export`}
            named={table.table}
            params={{ find }}
          />
        )}
        {may && (
          <>
            <Button
              variant="outline-primary"
              aria-label={`Load ${kind.title.toLowerCase()} from a file…`}
              onClick={() => setLoading(true)}
            >
              Load…
            </Button>
            <Button variant="outline-primary" onClick={() => setEditing({ row: null })}>
              Add {kind.one}…
            </Button>
          </>
        )}
      </div>
      <p className="quiet small m-0 pb-2" style={{ paddingInline: 14 }}>
        {kind.about} Closed months keep what they were closed with; changes count in open ones.
      </p>
      {trouble && (
        <p className="over px-3" role="alert">
          {trouble}
        </p>
      )}
      {list.total === undefined ? (
        <Wait what={`the ${kind.title.toLowerCase()}`} />
      ) : list.total > 0 ? (
        <VirtualTable
          key={table.table}
          rows={rows}
          columns={columns}
          rowKey={({ cells }) => called(table, cells)}
          onShown={list.onShown}
          label={kind.title}
          wide={wide}
        />
      ) : (
        <div className="scroll">
          <Empty title={find ? `No ${kind.one} found` : kind.empty}>
            {find
              ? 'None has all of these words in its buyer, reference or description.'
              : may && 'Add one here, or load many from a file.'}
          </Empty>
        </div>
      )}
      {loading && (
        <LoadTerms
          seller={seller}
          table={table}
          what={kind.title.toLowerCase()}
          close={() => setLoading(false)}
          done={done}
        />
      )}
      {editing && (
        <TermsDialog prices={prices} table={table} row={editing.row} close={() => setEditing(null)} done={done} />
      )}
    </section>
  )
}

/** Some cells together, as they are read. */
function shown(
  [first = '', ...others]: string[],
  of: (name: string) => string,
  prices: Schemas['PricesBody'],
): React.ReactNode {
  const text = of(first)
  const says = (name: string) => CHOICES[name]?.find(([key]) => key === of(name))?.[1] ?? of(name)
  switch (first) {
    case 'product':
      return prices.products.find((each) => each.product === text)?.name ?? <Quiet>usage and charges</Quiet>
    case 'percent':
      return `${text}\u00a0%`
    case 'every':
      return of('fees') === 'by_day' ? `${says('every')}, ${says('fees')}` : says('every')
    case 'day':
    case 'first_day': {
      if (!others.length) return dayName(text)
      const last = of('last_day')
      return last ? `${dayName(text)} – ${dayName(last)}` : `from ${dayName(text)}`
    }
    case 'quantity':
    case 'amount':
    case 'ceiling': {
      const amount = first === 'quantity' ? of('unit_price') : text
      if (!amount) return <Quiet>none</Quiet>
      return (
        <>
          {first === 'quantity' && text !== '1' && `${text} × `}
          {money(amount)} <span className="quiet small">{of('currency') || prices.currency}</span>
        </>
      )
    }
    case 'description':
      return <span title={text}>{text || '–'}</span>
    default:
      return text || <Quiet>–</Quiet>
  }
}

function Quiet({ children }: { children: string }) {
  return <span className="quiet">{children}</span>
}
