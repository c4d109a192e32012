import { Link, useNavigate } from 'react-router'
import { ExportMenu } from '../../components/ExportMenu'
import { PagedGrid } from '../../components/PagedGrid'
import { Empty, Trouble, Wait } from '../../components/States'
import type { Column } from '../../components/VirtualTable'
import { dayName, dayOf } from '../../domain/months'
import { PeopleTabs } from './PeopleTabs'
import { useQueue, type Waiting } from './queries'
import { Reservations } from './Reservations'

const columns: Column<Waiting>[] = [
  { key: 'product', title: 'Product', width: '124px', cell: (row) => row.product_name },
  { key: 'place', title: 'Place', width: '58px', fig: true, cell: (row) => row.place ?? '–' },
  {
    key: 'name',
    title: 'Person',
    width: 'minmax(125px, 0.4fr)',
    cell: (row) => <Link to={`/people/${encodeURIComponent(row.username)}`}>{row.name}</Link>,
  },
  {
    key: 'account',
    title: 'Account',
    width: 'minmax(240px, 0.8fr)',
    cell: (row) => <span title={row.account_name}>{row.account_name}</span>,
  },
  { key: 'priority', title: 'Priority', width: '80px', fig: true, cell: (row) => row.priority },
  {
    key: 'why',
    title: 'Waits for',
    width: 'minmax(240px, 2.4fr)',
    cell: (row) =>
      row.why ? (
        <span className="near" title={row.why}>
          not eligible: {row.why}
        </span>
      ) : (
        'a free seat'
      ),
  },
  { key: 'since', title: 'Waits since', width: '106px', cell: (row) => dayName(dayOf(row.since)) },
]

/** Who is reached by a layer and has no seat yet? The first gets the next one that comes free, by itself. */
export default function QueueScreen() {
  const found = useQueue()
  const go = useNavigate()
  if (found.error) return <Trouble page="Waiting list" error={found.error} again={() => void found.refetch()} />
  if (found.total === undefined) return <Wait what="the queue" />
  return (
    <>
      <div className="bar tightbar">
        <h1>Waiting list</h1>
        <PeopleTabs at="queue" />
        <span className="quiet small">
          The first in line gets the next free seat automatically; people who are not eligible are skipped.
        </span>
        <span className="grow" />
        {found.total > 0 && <ExportMenu path="/api/entitlements/queue/export" params={{}} />}
      </div>
      {found.total === 0 ? (
        <div className="scroll">
          <Empty title="No one is waiting">Everyone entitled has a seat.</Empty>
        </div>
      ) : (
        <PagedGrid
          total={found.total}
          rowAt={found.rowAt}
          onShown={found.onShown}
          columns={columns}
          rowKey={(row) => `${row.product} ${row.username}`}
          label="Waiting list"
          open={(row) => void go(`/people/${encodeURIComponent(row.username)}`)}
        />
      )}
      <Reservations />
    </>
  )
}
