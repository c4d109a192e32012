import { useQuery } from '@tanstack/react-query'
import { TableMenu } from '../../components/ExportMenu'
import { whole } from '../../domain/units'
import type { Schemas } from '../../api/client'
import { serverNow } from '../../api/queries'
import { instantName } from '../../domain/months'
import { Trouble, Wait } from '../../components/States'
import { VirtualTable, type Column } from '../../components/VirtualTable'

type Route = Schemas['RouteBody']
type Job = Schemas['JobBody']

/** A time to the next step of the measure. */
function within(seconds: number | null): string {
  if (seconds === null) return 'over 10 s'
  return seconds < 1 ? `≤ ${Math.round(seconds * 1000)} ms` : `≤ ${seconds} s`
}

const some = (number: number) => (number ? whole(number) : <span className="quiet">–</span>)

const routeColumns: Column<Route>[] = [
  {
    key: 'route',
    title: 'Request',
    width: 'minmax(220px, 2fr)',
    cell: (row) => (
      <span title={`${row.method} ${row.route}`}>
        <span className="quiet small">{row.method}</span> {row.route}
      </span>
    ),
  },
  { key: 'count', title: 'Answered', width: '90px', fig: true, cell: (row) => whole(row.count) },
  { key: 'middle', title: 'Median', width: '100px', fig: true, cell: (row) => within(row.middle) },
  { key: 'p95', title: '95th percentile', width: '100px', fig: true, cell: (row) => within(row.p95) },
  { key: 'statements', title: 'Statements each', width: '150px', fig: true, cell: (row) => row.statements },
  { key: 'refused', title: 'Refused', width: '80px', fig: true, cell: (row) => some(row.refused) },
  {
    key: 'failed',
    title: 'Failed',
    width: '80px',
    fig: true,
    cell: (row) => (row.failed ? <b className="over">{whole(row.failed)}</b> : some(0)),
  },
  { key: 'retries', title: 'Retried', width: '110px', fig: true, cell: (row) => some(row.retries) },
]

const jobColumns: Column<Job>[] = [
  { key: 'name', title: 'Job', width: 'minmax(160px, 1fr)', cell: (row) => row.name },
  {
    key: 'ran',
    title: 'Last began',
    width: '150px',
    cell: (row) => (row.ran_at ? instantName(row.ran_at) : <span className="quiet">never</span>),
  },
  {
    key: 'late',
    title: 'Late by',
    width: '100px',
    fig: true,
    cell: (row) =>
      row.running ? (
        <span className="quiet">at work</span>
      ) : row.late_seconds >= 5 ? (
        <b className="near">{whole(Math.round(row.late_seconds))} s</b>
      ) : (
        some(0)
      ),
  },
  {
    key: 'trouble',
    title: 'Last error',
    width: 'minmax(200px, 2fr)',
    cell: (row) =>
      row.trouble ? (
        <span className="over" title={row.trouble}>
          {row.trouble}
        </span>
      ) : (
        <span className="quiet">–</span>
      ),
  },
]

/** How do the servers do: what do requests cost, and are the jobs on time? */
export default function ServerScreen() {
  const found = useQuery(serverNow)
  if (found.isPending) return <Wait what="the server’s figures" />
  if (found.isError) return <Trouble page="Server" error={found.error} again={() => void found.refetch()} />
  const server = found.data
  const late = server.jobs.filter((each) => !each.running && each.late_seconds >= 5).length
  return (
    <>
      <div className="bar">
        <h1>Server</h1>
        <span className="quiet small">
          {server.processes} {server.processes === 1 ? 'process' : 'processes'} · {whole(server.megabytes)} MB in
          memory, database aside · since it began {whole(server.assigned)} assigned, {whole(server.released)} released
        </span>
        <span className="grow" />
        <TableMenu
          name="requests"
          rows={() => [
            ['Method', 'Route', 'Requests', 'Middle, s', 'p95, s', 'Statements', 'Refused', 'Failed', 'Retries'],
            ...server.routes.map((each) =>
              [
                each.method,
                each.route,
                each.count,
                each.middle ?? 'over 10',
                each.p95 ?? 'over 10',
                each.statements,
                each.refused,
                each.failed,
                each.retries,
              ].map(String),
            ),
          ]}
        />
      </div>
      <h2 className="listhead">Requests since start</h2>
      <VirtualTable
        rows={server.routes}
        columns={routeColumns}
        rowKey={(row) => `${row.method} ${row.route}`}
        label="Requests since the server started"
      />
      <h2 className="listhead">
        Jobs <span className={late ? 'near small' : 'quiet small'}>{late ? `${late} late` : 'all on time'}</span>
      </h2>
      <VirtualTable rows={server.jobs} columns={jobColumns} rowKey={(row) => row.name} label="Jobs" />
    </>
  )
}
