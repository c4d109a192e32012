import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useNavigate } from 'react-router'
import { me, useCan } from '../../api/queries'
import { FindField } from '../../components/FindField'
import { LIST_KEYS } from '../../commands/listKeys'
import { useCommands } from '../../commands/registry'
import { useAddress } from '../../components/address'
import { DayField } from '../../components/DayField'
import { ExportMenu } from '../../components/ExportMenu'
import { Gauge } from '../../components/Gauge'
import { useOutcome } from '../../components/Outcome'
import { PagedGrid } from '../../components/PagedGrid'
import { Empty, StateMark, Trouble, Wait } from '../../components/States'
import { useNarrow } from '../../components/useNarrow'
import type { Column, Sorting } from '../../components/VirtualTable'
import { fullSaid } from '../../domain/filling'
import { dayName, dayOf, nextDay, shortDay } from '../../domain/months'
import { roundUnits, units } from '../../domain/units'
import { PoolTabs } from '../pools/PoolTabs'
import { DetailDialog } from './DetailDialog'
import { Grown, SizeBar, Trend } from './drawings'
import { LimitDialog } from './LimitDialog'
import { NewFolder } from './NewFolder'
import {
  ofAccounts,
  storageProducts,
  storageTotal,
  useStored,
  type Order,
  type Show,
  type StorageRow,
  type StorageTotal,
  type What,
} from './queries'

const WHAT: [What, string][] = [
  ['accounts', 'Accounts'],
  ['people', 'People'],
  ['folders', 'Shared folders'],
  ['categories', 'Categories'],
]
const SHOW: [Show, string][] = [
  ['all', 'All'],
  ['near', 'Near their limit'],
  ['over', 'Over'],
  ['growing', 'Growing fast'],
  ['untouched', 'Untouched for a year'],
  ['nobody', 'Left behind'],
]
const SHOW_FOLDERS: [Show, string][] = SHOW.map(([key, says]) => [key, key === 'nobody' ? 'No owner' : says])
const SHOW_ACCOUNTS: [Show, string][] = SHOW.filter(([key]) => key !== 'untouched' && key !== 'nobody').map(
  ([key, says]) => [key, key === 'near' ? 'Near their cap' : key === 'over' ? 'Over it' : says],
)
const SHOWN_OF: Record<What, [Show, string][]> = {
  accounts: SHOW_ACCOUNTS,
  people: SHOW,
  folders: SHOW_FOLDERS,
  categories: [],
}
const ORDERS: Order[] = ['size', 'week', 'month', 'quarter', 'share', 'used']

interface Shown {
  what: What
  /** Of a day that is over: without limits, and without when it was last reported. */
  isPast: boolean
  perUnit: number
  largest: number
  /** On a phone the figures come before what can wait. */
  narrow: boolean
  open: (row: StorageRow) => void
}

function columns({ what, isPast, perUnit, largest, narrow, open }: Shown): Column<StorageRow>[] {
  const of = (grains: number) => roundUnits(grains, perUnit)
  const grown = (key: Order, title: string, before: (row: StorageRow) => number): Column<StorageRow> => ({
    key,
    title,
    width: '74px',
    fig: true,
    sort: true,
    cell: (row) => <Grown by={row.size.now - before(row)} perUnit={perUnit} />,
  })
  const limits: Column<StorageRow>[] =
    what === 'accounts' || (what !== 'categories' && !isPast)
      ? [
          {
            key: 'limit',
            title: what === 'accounts' ? 'Cap' : 'Limit',
            width: '74px',
            fig: true,
            cell: (row) =>
              row.limit === null ? (
                <span className="quiet">none</span>
              ) : (
                <span title={row.source ?? undefined}>{of(row.limit)}</span>
              ),
          },
          {
            key: 'share',
            title: 'Of it',
            width: '72px',
            fig: true,
            ...(!isPast && { sort: true }),
            cell: (row) => <Share row={row} />,
          },
        ]
      : []
  const size: Column<StorageRow>[] = [
    { key: 'size', title: 'GB', width: '86px', fig: true, sort: true, cell: (row) => <b>{of(row.size.now)}</b> },
    ...limits,
  ]
  return [
    {
      key: 'title',
      title: WHAT.find(([key]) => key === what)?.[1] ?? '',
      width: narrow ? '138px' : 'minmax(170px, 1.4fr)',
      cell: (row) => (
        <>
          <button
            type="button"
            className={`btn btn-link p-0 ${what === 'accounts' ? 'd-inline-block text-truncate mw-100' : 'align-baseline'}`}
            tabIndex={-1}
            onClick={() => open(row)}
          >
            {row.title}
          </button>{' '}
          {row.stands && <span className="tag">{row.stands === 'deleted' ? 'to be deleted' : 'archived'}</span>}{' '}
          {row.owner && <span className="quiet small">{row.owner}</span>}
          {what !== 'accounts' && !row.here && !row.stands && (
            <span className="near small">{what === 'folders' ? 'no owner' : 'left behind'}</span>
          )}
        </>
      ),
    },
    ...(narrow ? size : []),
    ...(what === 'accounts'
      ? []
      : [
          {
            key: 'account',
            title: 'Account',
            width: 'minmax(150px, 1.6fr)',
            cell: (row: StorageRow) => (
              <span className="quiet" title={row.account_name}>
                {row.account_name}
              </span>
            ),
          },
        ]),
    {
      key: 'bar',
      title: isPast ? '■ 30 days before  ▨ since' : '■ 30 days ago  ▨ since',
      width: 'minmax(168px, 0.8fr)',
      cell: (row) => <SizeBar size={row.size} largest={largest} />,
    },
    ...(narrow ? [] : size),
    grown('week', '7 days', (row) => row.size.week_ago),
    grown('month', '30 days', (row) => row.size.month_ago),
    grown('quarter', '90 days', (row) => row.size.quarter_ago),
    { key: 'trend', title: 'Trend', width: '84px', cell: (row) => <Trend size={row.size} /> },
    ...(what === 'accounts' || isPast
      ? []
      : [
          {
            key: 'used',
            title: what === 'people' ? 'Last use' : 'Changed',
            width: '82px',
            sort: true,
            cell: (row: StorageRow) => (
              <span className="quiet small" title={row.used_at ? undefined : 'When its size last changed'}>
                {(row.used_at ?? row.at) ? shortDay(dayOf(row.used_at ?? row.at ?? '')) : '–'}
              </span>
            ),
          },
        ]),
  ]
}

function Share({ row }: { row: StorageRow }) {
  if (row.limit === null) return <span className="quiet">–</span>
  const percent = row.limit === 0 ? (row.size.now > 0 ? Infinity : 0) : (row.size.now / row.limit) * 100
  const says = percent === Infinity ? 'no limit left' : `${Math.floor(percent)} %`
  const tone = row.state === 'within' || row.state === null ? undefined : row.state === 'near' ? 'near' : 'over'
  return <span className={tone}>{percent > 100 ? `▲ ${says}` : says}</span>
}

/** Where do the bytes sit, under which limit, from where? */
export default function StorageScreen() {
  const who = useQuery(me).data
  const products = useQuery(storageProducts)
  const [params, change] = useAddress()
  const seesPeople = useCan('people.see')
  const changesLimits = useCan('layers.change')
  const go = useNavigate()
  useCommands(LIST_KEYS)
  const outcome = useOutcome()
  const [limiting, setLimiting] = useState(false)
  const [making, setMaking] = useState(false)
  const [looked, setLooked] = useState<StorageRow | null>(null)
  const product = params.get('product') ?? products.data?.find((each) => each.product)?.product ?? ''
  const account = params.get('account') ?? who?.running.account ?? ''
  const what = (seesPeople ? WHAT.find(([key]) => key === params.get('what'))?.[0] : undefined) ?? 'accounts'
  const day = params.get('day') ?? ''
  const filters = day ? [] : SHOWN_OF[what]
  const show = filters.find(([key]) => key === params.get('show'))?.[0] ?? 'all'
  const wanted = ORDERS.find((each) => each === params.get('order')) ?? 'size'
  const order = day && (wanted === 'share' || wanted === 'used') ? 'size' : wanted
  const find = what === 'accounts' ? '' : (params.get('find') ?? '')
  const total = useQuery(storageTotal(product, account, day))
  const asked = { product, account, what, show, order, find, day }
  const found = useStored(asked)
  const narrow = useNarrow()
  if (!who || products.isPending) return <Wait what="the storage" />
  if (products.isError) return <Trouble page="Storage" error={products.error} again={() => void products.refetch()} />
  if (!products.data.length)
    return (
      <Empty title="No storage yet">
        Buy a storage product under{' '}
        <Link to="/pools" className="text-decoration-underline">
          Pools
        </Link>
        : what is stored of it is shown here.
      </Empty>
    )
  const perUnit = products.data.find((each) => each.product === product)?.per_unit ?? 1000
  const largest = Math.max(...Array.from({ length: 100 }, (_, at) => found.rowAt(at)?.size.now ?? 0), 1)
  const open = (row: StorageRow) => {
    if (what !== 'accounts') setLooked(row)
    else if (row.name === '') change({ what: 'categories', account, order: null }, 'in the history')
    else change({ account: row.account, order: null }, 'in the history')
  }
  const sorting: Sorting = { key: order, down: true }
  const exported = what === 'accounts' ? '/api/storage/accounts/export' : '/api/storage/export'
  return (
    <>
      <div className="bar tightbar">
        <h1>Storage</h1>
        <PoolTabs at="storage" />
        {products.data.length > 1 && (
          <Form.Select
            aria-label="Product"
            value={product}
            style={{ width: 'auto' }}
            onChange={(event) => change({ product: event.target.value })}
          >
            {products.data.map((each) => (
              <option key={each.product} value={each.product}>
                {each.name}
              </option>
            ))}
          </Form.Select>
        )}
        <span className="seg" role="group" aria-label="By">
          {WHAT.filter(([key]) => seesPeople || key === 'accounts').map(([key, says]) => (
            <button
              type="button"
              key={key}
              aria-pressed={what === key}
              onClick={() => change({ what: key === 'accounts' ? null : key, show: null, find: null, order: null })}
            >
              {says}
            </button>
          ))}
        </span>
        <DayField
          aria-label="As of the end of"
          placeholder="As of a day"
          value={day}
          means="last"
          stands
          max={nextDay(dayOf(who.now), -1)}
          onDay={(chosen) => change({ day: chosen || null, show: null })}
        />
        <span className="grow" />
        {what === 'folders' && changesLimits && !day && (
          <Button variant="outline-primary" onClick={() => setMaking(true)}>
            New folder…
          </Button>
        )}
        {seesPeople && !day && what !== 'folders' && (
          <Button variant="outline-primary" onClick={() => setLimiting(true)}>
            {changesLimits ? 'Limit per person…' : 'Spread…'}
          </Button>
        )}
        <ExportMenu
          path={exported}
          params={{
            ...(what === 'accounts'
              ? { product, account, ...ofAccounts(show, order) }
              : { product, account, what, show, order, find }),
            ...(day && { day }),
          }}
        />
      </div>
      {total.data && !total.isError && (
        <Sums total={total.data} day={day} up={(code) => change({ account: code }, 'in the history')} />
      )}
      {(filters.length > 0 || what !== 'accounts') && (
        <div className="px-3 pb-2 d-flex gap-3 flex-wrap align-items-center">
          {filters.length > 0 && (
            <span className="seg" role="group" aria-label="Show">
              {filters.map(([key, says]) => (
                <button
                  type="button"
                  key={key}
                  aria-pressed={show === key}
                  onClick={() => change({ show: key === 'all' ? null : key })}
                >
                  {says}
                </button>
              ))}
            </span>
          )}
          {what !== 'accounts' && (
            <FindField
              label={`Find ${WHAT.find(([key]) => key === what)?.[1].toLowerCase()}`}
              group="Storage"
              key={what}
              find={find}
              onFind={(words) => change({ find: words })}
              width={200}
            />
          )}
        </div>
      )}
      {found.error ? (
        <Trouble error={found.error} again={() => void found.refetch()} />
      ) : found.total === undefined ? (
        <Wait what="the sizes" />
      ) : found.total === 0 ? (
        <Empty title={show !== 'all' || find ? 'None here' : 'Nothing stored here'}>
          {show !== 'all' || find
            ? 'Choose another filter, or change the search.'
            : 'Sizes come from storage systems, from a table, or with an intake.'}
        </Empty>
      ) : (
        <PagedGrid
          key={`${product} ${account} ${what} ${show} ${order} ${day}`}
          total={found.total}
          rowAt={found.rowAt}
          onShown={found.onShown}
          columns={columns({ what, isPast: day !== '', perUnit, largest, narrow, open })}
          rowKey={(row) => `${row.account} ${row.name}`}
          label={WHAT.find(([key]) => key === what)?.[1] ?? ''}
          sorting={sorting}
          onSort={(next) => change({ order: next.key === 'size' ? null : next.key })}
          comesHere
          open={open}
        />
      )}
      {looked && what !== 'accounts' && (
        <DetailDialog
          product={product}
          perUnit={perUnit}
          row={looked}
          what={what}
          day={day}
          close={() => setLooked(null)}
          openPerson={() => void go(`/people/${encodeURIComponent(looked.name)}`)}
        />
      )}
      {making && (
        <NewFolder
          product={product}
          account={total.data?.parent ? account : ''}
          close={() => setMaking(false)}
          done={(said) => {
            setMaking(false)
            outcome(said)
          }}
        />
      )}
      {limiting && (
        <LimitDialog
          product={product}
          perUnit={perUnit}
          account={account}
          accountName={total.data?.account_name ?? account}
          close={() => setLimiting(false)}
          done={(said) => {
            setLimiting(false)
            outcome(said)
          }}
        />
      )}
    </>
  )
}

function Sums({ total, day, up }: { total: StorageTotal; day: string; up: (account: string) => void }) {
  const of = (grains: number) => roundUnits(grains, total.per_unit)
  const { parent, full, size } = total
  const parts: [string, StorageTotal['personal']][] = [
    ['Of people', total.personal],
    ['Shared folders', total.shared],
    ['Other', total.other],
    ['Left behind', total.left_behind],
  ]
  return (
    <div className="sums">
      <div className="main">
        <span>
          {parent && (
            <button type="button" className="btn btn-link btn-sm p-0 me-2" onClick={() => up(parent)}>
              ↑ up
            </button>
          )}
          {total.account_name}, GB{day && `, as of ${dayName(day)}`} <StateMark state={total.state} />
        </span>
        <b title={units(size.now, total.per_unit)}>{of(size.now)}</b>{' '}
        <span className="d-inline quiet">{total.cap === null ? '' : `of ${of(total.cap)}`}</span>
        {total.cap !== null && (
          <span className="d-inline ms-2">
            <Gauge amounts={{ used: size.now, held: size.now, reserve: 0, limit: total.cap, reachable: 0 }} />
          </span>
        )}
      </div>
      {parts.map(([says, part]) => (
        <div key={says}>
          <span>{says}</span>
          <b>{of(part.now)}</b>
        </div>
      ))}
      {(
        [
          [`7 days${day && ' before'}`, size.week_ago],
          [`30 days${day && ' before'}`, size.month_ago],
          [`90 days${day && ' before'}`, size.quarter_ago],
        ] as const
      ).map(([says, before]) => (
        <div key={says}>
          <span>{says}</span>
          <b>
            <Grown by={size.now - before} perUnit={total.per_unit} />
          </b>
        </div>
      ))}
      {full && (
        <div>
          <span>Full at this pace</span>
          <b className={size.now >= (total.cap ?? 0) ? 'over' : undefined}>
            {size.now >= (total.cap ?? 0) ? 'full' : fullSaid(full)}
          </b>
        </div>
      )}
    </div>
  )
}
