import { useQuery } from '@tanstack/react-query'
import { TableMenu } from '../../components/ExportMenu'
import { Link } from 'react-router'
import { dayName, dayOf } from '../../domain/months'
import { Empty, Trouble, Wait } from '../../components/States'
import { VirtualTable, type Column } from '../../components/VirtualTable'
import { PeopleTabs } from './PeopleTabs'
import { seatQueue } from './queries'
import { Reservations } from './Reservations'

type Waiting = NonNullable<ReturnType<typeof useQueue>['data']>[number]

function useQueue() {
  return useQuery(seatQueue)
}

const columns: Column<Waiting & { place: number | null }>[] = [
  { key: 'product', title: 'Product', width: 'minmax(150px, 1fr)', cell: (row) => row.product_name },
  { key: 'place', title: 'Place', width: '70px', fig: true, cell: (row) => row.place ?? '–' },
  {
    key: 'name',
    title: 'Person',
    width: 'minmax(170px, 1.2fr)',
    cell: (row) => <Link to={`/people/${encodeURIComponent(row.username)}`}>{row.name}</Link>,
  },
  {
    key: 'account',
    title: 'Account',
    width: 'minmax(170px, 1.5fr)',
    cell: (row) => <span title={row.account_name}>{row.account_name}</span>,
  },
  { key: 'priority', title: 'Priority', width: '90px', fig: true, cell: (row) => row.priority },
  {
    key: 'why',
    title: 'Waits for',
    width: 'minmax(180px, 1.6fr)',
    cell: (row) =>
      row.why ? (
        <span className="near" title={row.why}>
          not eligible: {row.why}
        </span>
      ) : (
        'a free seat'
      ),
  },
  { key: 'since', title: 'Waits since', width: '130px', cell: (row) => dayName(dayOf(row.since)) },
]

/** Who is reached by a layer and has no seat yet? The first gets the next one that comes free, by itself. */
export default function QueueScreen() {
  const found = useQueue()
  if (found.isError) return <Trouble page="Waiting list" error={found.error} again={() => void found.refetch()} />
  if (!found.data) return <Wait what="the queue" />
  const places = new Map<string, number>()
  const rows = found.data.map((each) => {
    // Whoever is not eligible is passed over, and has no place until they are.
    if (each.why) return { ...each, place: null }
    const place = (places.get(each.product) ?? 0) + 1
    places.set(each.product, place)
    return { ...each, place }
  })
  return (
    <>
      <div className="bar tightbar">
        <h1>Waiting list</h1>
        <PeopleTabs at="queue" />
        <span className="quiet small">
          The first in line gets the next free seat automatically; people who are not eligible are skipped.
        </span>
        <span className="grow" />
        {rows.length > 0 && (
          <TableMenu
            name="waiting-list"
            rows={() => [
              columns.map((column) => column.title),
              ...rows.map((row) => [
                row.product_name,
                row.place === null ? '' : String(row.place),
                row.name,
                row.account_name,
                String(row.priority),
                row.why ? `not eligible: ${row.why}` : 'a free seat',
                dayOf(row.since),
              ]),
            ]}
          />
        )}
      </div>
      {rows.length === 0 ? (
        <div className="scroll">
          <Empty title="No one is waiting">Everyone entitled has a seat.</Empty>
        </div>
      ) : (
        <VirtualTable
          rows={rows}
          columns={columns}
          rowKey={(row) => `${row.product} ${row.username}`}
          label="Waiting list"
        />
      )}
      <Reservations />
    </>
  )
}
