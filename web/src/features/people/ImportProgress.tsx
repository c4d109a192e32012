import { useQueryClient } from '@tanstack/react-query'
import { useEffect } from 'react'
import { Button, ProgressBar } from 'react-bootstrap'
import { Link, useNavigate } from 'react-router'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { ExportMenu } from '../../components/ExportMenu'
import { VirtualTable } from '../../components/VirtualTable'
import { dayName } from '../../domain/months'

const SAYS = {
  planned: '',
  running: 'In progress; you can leave this page.',
  cancelled: 'Stopped. Rows already imported stay.',
  broken: 'Interrupted. Rows already imported stay; nothing of the unfinished part was done.',
  done: 'Finished.',
  open: '',
}

/** How far it is, what it did, and what could not be done and why. */
export function ImportProgress({ run }: { run: Schemas['ReportBody'] }) {
  const queries = useQueryClient()
  const { run: act, trouble } = useAction('imports')
  const go = useNavigate()
  useEffect(() => {
    if (run.state !== 'running')
      for (const key of ['people', 'groups', 'accounts', 'allocations', 'today', 'log'])
        void queries.invalidateQueries({ queryKey: [key] })
  }, [run.state, queries])
  const tell = async (what: 'cancel' | 'resume') => {
    await act(async () => {
      await take(api.POST(`/api/people-imports/{import_id}/${what}`, { params: { path: { import_id: run.id } } }))
    })
  }
  const reverse = async () => {
    await act(async () => {
      const back = await take(
        api.POST('/api/people-imports/{import_id}/reverse', { params: { path: { import_id: run.id } } }),
      )
      void go(`/people-import/${back.id}`)
    })
  }
  return (
    <>
      <div className="bar tightbar">
        <Link to="/people-import" className="quiet small">
          Import people ›
        </Link>
        <h1>{run.name}</h1>
        <span className="grow" />
        {(run.state === 'running' || run.state === 'planned') && (
          <Button variant="outline-primary" onClick={() => void tell('cancel')}>
            {run.state === 'planned' ? 'Change' : 'Stop'}
          </Button>
        )}
        {(run.state === 'cancelled' || run.state === 'broken') && (
          <Button onClick={() => void tell('resume')}>Go on</Button>
        )}
        {run.leaves && run.state !== 'running' && run.reversed_by === null && (
          <Button variant="outline-primary" onClick={() => void reverse()}>
            Reverse
          </Button>
        )}
        {run.reversed_by !== null && (
          <Link className="quiet small" to={`/people-import/${run.reversed_by}`}>
            reversed
          </Link>
        )}
        {run.done > 0 && <ExportMenu path={`/api/people-imports/${run.id}/export`} named="import" params={{}} />}
        <Link className="btn btn-outline-primary" to="/people">
          To the people
        </Link>
      </div>
      <div className="scroll account" role="region" aria-label="History" tabIndex={0}>
        <p className={run.state === 'broken' ? 'over' : undefined} role="status">
          {run.state === 'planned' && run.on_day ? (
            <>
              <b>{run.total}</b> {run.total === 1 ? 'person leaves' : 'people leave'} on {dayName(run.on_day)}.
            </>
          ) : (
            <>
              {SAYS[run.state]} <b>{run.done}</b> of {run.total} rows.
            </>
          )}
        </p>
        {run.state !== 'planned' && (
          <ProgressBar now={run.done} max={Math.max(1, run.total)} aria-label="Rows done" className="mb-3" />
        )}
        {run.trouble && (
          <p className="over" role="alert">
            {run.trouble}
          </p>
        )}
        {trouble && (
          <p className="over" role="alert">
            {trouble}
          </p>
        )}
        {run.done > 0 && (
          <p>
            {Object.entries(run.counts).map(([did, count]) => (
              <span key={did} className="me-3">
                <b>{count}</b> {did}
              </span>
            ))}
          </p>
        )}
        {run.not_done.length > 0 && (
          <section aria-label="Could not be done" className="faults">
            <h2 className="sub">
              {run.not_done.length === 1 ? 'One row' : `${run.not_done.length} rows`} of which something could not be
              done
            </h2>
            <VirtualTable
              rows={run.not_done}
              label="Could not be done"
              rowKey={(row) => row.row}
              rowHeight={30}
              columns={[
                { key: 'row', title: 'Row', width: '60px', fig: true, cell: (row) => row.row },
                {
                  key: 'username',
                  title: 'Who',
                  width: '180px',
                  cell: (row) =>
                    row.username && row.did !== 'not done' ? (
                      <Link to={`/people/${encodeURIComponent(row.username)}`}>{row.username}</Link>
                    ) : (
                      row.username
                    ),
                },
                { key: 'did', title: 'Done', width: '150px', cell: (row) => row.did },
                {
                  key: 'why',
                  title: 'Not done, and why',
                  width: 'minmax(200px, 1fr)',
                  cell: (row) => <span title={row.why}>{row.why}</span>,
                },
              ]}
            />
          </section>
        )}
      </div>
    </>
  )
}
