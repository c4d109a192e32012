import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link } from 'react-router'
import { api, take } from '../../api/client'
import { dayName, instantName } from '../../domain/months'
import { Empty, Trouble, Wait } from '../../parts/States'
import { VirtualTable } from '../../parts/VirtualTable'
import { Parts } from './Parts'
import { sessions as sessionsQuery, useFresh } from './queries'

/** Who works with what right now? */
export default function SessionsScreen() {
  const found = useQuery(sessionsQuery())
  const fresh = useFresh()
  const [trouble, setTrouble] = useState('')
  if (found.isError) return <Trouble error={found.error} again={() => void found.refetch()} />
  if (!found.data) return <Wait what="the sessions" />
  const end = async (id: number) => {
    try {
      await take(api.POST('/api/sessions/{lease_id}/end', { params: { path: { lease_id: id } } }))
      setTrouble('')
    } catch (error) {
      setTrouble(error instanceof Error ? error.message : 'That did not work.')
    }
    await fresh()
  }
  return (
    <>
      <div className="bar tightbar"><h1>Sessions</h1><Parts at="sessions" /><span className="quiet small" role="status">{found.data.total} live{found.data.total > found.data.rows.length && `, ${found.data.rows.length} shown`}</span><span className="grow" />{trouble && <span className="over small" role="alert">{trouble}</span>}</div>
      {found.data.total === 0 ? <Empty title="Nobody is at work">A session begins with a key and a username, and holds its unit as long as its heartbeats come.</Empty> : (
        <VirtualTable
          rows={found.data.rows} label="Sessions" rowKey={(row) => row.id} rowHeight={32}
          columns={[
            { key: 'person', title: 'Person', width: 'minmax(150px, 1.2fr)', cell: (row) => <Link to={`/people/${encodeURIComponent(row.username)}`}>{row.person}</Link> },
            { key: 'product', title: 'Product', width: 'minmax(120px, 1fr)', cell: (row) => row.product_name }, { key: 'account', title: 'Account', width: 'minmax(130px, 1fr)', cell: (row) => row.account_name },
            { key: 'machine', title: 'On', width: 'minmax(110px, 1fr)', cell: (row) => row.machine }, { key: 'began', title: 'Since', width: '160px', cell: (row) => instantName(row.began_at) },
            { key: 'state', title: 'State', width: 'minmax(190px, 1.4fr)', cell: (row) => (row.ends_at ? <span className="near" title={row.why ?? ''}>△ told to save; {row.why}</span> : row.offline_until ? `taken along until ${dayName(row.offline_until.slice(0, 10))}` : 'live') },
            { key: 'end', title: '', width: '80px', cell: (row) => !row.ends_at && <button type="button" className="btn btn-link btn-sm p-0" aria-label={`End the session of ${row.person} on ${row.machine}`} onClick={() => void end(row.id)}>End</button> },
          ]}
        />
      )}
    </>
  )
}
