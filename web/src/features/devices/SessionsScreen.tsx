import { useState } from 'react'
import { Button, Modal } from 'react-bootstrap'
import { Link, useNavigate } from 'react-router'
import { few } from '../../domain/units'
import { api, take } from '../../api/client'
import { useAction } from '../../api/useAction'
import { FindField } from '../../components/FindField'
import { useOutcome } from '../../components/Outcome'
import { LIST_KEYS } from '../../commands/listKeys'
import { useCommands } from '../../commands/registry'
import { dayName, dayOf, instantName } from '../../domain/months'
import { ExportMenu } from '../../components/ExportMenu'
import { PagedGrid } from '../../components/PagedGrid'
import { Empty, Trouble, Wait } from '../../components/States'
import { useMarked } from '../../components/usePages'
import type { Column } from '../../components/VirtualTable'
import { Chips, forFile, ListFilters, useListFilter } from './ListFilters'
import { DeviceTabs } from './DeviceTabs'
import { CHANGES, useSessions, type Session } from './queries'

const COLUMNS: Column<Session>[] = [
  {
    key: 'person',
    title: 'Person',
    width: 'minmax(150px, 1.2fr)',
    sort: true,
    cell: (row) => (
      <Link to={`/people/${encodeURIComponent(row.username)}`} tabIndex={-1}>
        {row.person}
      </Link>
    ),
  },
  { key: 'product', title: 'Product', width: 'minmax(120px, 1fr)', sort: true, cell: (row) => row.product_name },
  {
    key: 'account',
    title: 'Account',
    width: 'minmax(140px, 1.4fr)',
    sort: true,
    cell: (row) => <span title={row.account_name}>{row.account_name}</span>,
  },
  { key: 'machine', title: 'On', width: 'minmax(110px, 1fr)', sort: true, cell: (row) => row.machine },
  { key: 'began', title: 'Since', width: '160px', sort: true, cell: (row) => instantName(row.began_at) },
  {
    key: 'state',
    title: 'State',
    width: 'minmax(190px, 1.4fr)',
    cell: (row) =>
      row.ends_at ? (
        <span className="near" title={row.why ?? ''}>
          △ told to save; {row.why}
        </span>
      ) : row.offline_until ? (
        `offline until ${dayName(dayOf(row.offline_until))}`
      ) : (
        'live'
      ),
  },
]

/** Who works with what right now? */
export default function SessionsScreen() {
  const { asked, change, sorting, onSort } = useListFilter('person', 'product', 'account', 'machine', 'began')
  const found = useSessions(asked)
  const { marked, isMarked, mark, clear } = useMarked(found.rowAt, (row) => String(row.id))
  const [ending, setEnding] = useState(false)
  const { run, trouble } = useAction(...CHANGES)
  const outcome = useOutcome()
  useCommands(LIST_KEYS)
  const go = useNavigate()
  const end = async () => {
    setEnding(false)
    await run(async () => {
      await take(api.POST('/api/sessions/end', { body: { ids: marked.map((row) => row.id) } }))
      outcome(`${marked.length} ${marked.length === 1 ? 'session' : 'sessions'} ended.`)
      clear()
    })
  }
  const offline = marked.filter((row) => row.offline_until).length
  return (
    <>
      <div className="bar tightbar">
        <h1>Sessions</h1>
        <DeviceTabs at="sessions" />
        <FindField label="Find a session" group="Sessions" find={asked.find} onFind={(find) => change({ find })} />
        <ListFilters asked={asked} measure="session" change={change} />
        <span className="quiet small" role="status">
          {found.total === undefined ? '' : `${found.total} live`}
        </span>
        <span className="grow" />
        <ExportMenu path="/api/sessions/export" params={forFile(asked)} />
      </div>
      <Chips asked={asked} change={change} />
      {trouble && (
        <p className="over px-3 mb-1" role="alert">
          {trouble}
        </p>
      )}
      {found.error ? (
        <Trouble error={found.error} again={() => void found.refetch()} />
      ) : found.total === undefined ? (
        <Wait what="the sessions" />
      ) : found.total === 0 ? (
        <Empty title="No active sessions">
          {asked.find || asked.account || asked.product
            ? 'Clear a filter or change the search.'
            : 'A session begins with a key and a username, and holds its unit as long as its heartbeats come.'}
        </Empty>
      ) : (
        <PagedGrid
          total={found.total}
          rowAt={found.rowAt}
          onShown={found.onShown}
          columns={COLUMNS}
          rowKey={(row) => String(row.id)}
          label="Sessions"
          sorting={sorting}
          onSort={onSort}
          isMarked={isMarked}
          mark={mark}
          markAll={(on) => (on ? mark(0, (found.total ?? 1) - 1, true) : clear())}
          comesHere={asked.find !== ''}
          open={(row) => void go(`/people/${encodeURIComponent(row.username)}`)}
        />
      )}
      {marked.length > 0 && (
        <section className="draftbar actbar" aria-label="Chosen sessions">
          <span>
            <b>{marked.length} chosen</b>{' '}
            <button type="button" className="btn btn-link btn-sm p-0" aria-label="Clear selection" onClick={clear}>
              ×
            </button>
          </span>
          <Button size="sm" variant="outline-primary" onClick={() => setEnding(true)}>
            End…
          </Button>
        </section>
      )}
      {ending && (
        <Modal show onHide={() => setEnding(false)} animation={false} aria-labelledby="end-title">
          <Modal.Header closeButton>
            <Modal.Title as="h2" id="end-title">
              End: {few(marked.map((row) => row.person))}
            </Modal.Title>
          </Modal.Header>
          <Modal.Body>
            <p className="mb-0">
              Whoever works is told at the next heartbeat to save, and has two minutes; then the session ends and its
              unit is free.
            </p>
            {offline > 0 && (
              <p className="near mt-2 mb-0">
                {offline} {offline === 1 ? 'is' : 'are'} offline and cannot be told:{' '}
                {offline === 1 ? 'it ends' : 'they end'} here at once.
              </p>
            )}
          </Modal.Body>
          <Modal.Footer>
            <Button variant="outline-primary" onClick={() => setEnding(false)}>
              Cancel
            </Button>
            <Button autoFocus onClick={() => void end()}>
              End {marked.length}
            </Button>
          </Modal.Footer>
        </Modal>
      )}
    </>
  )
}
