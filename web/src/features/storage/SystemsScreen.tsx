import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Dropdown } from 'react-bootstrap'
import { Link } from 'react-router'
import { Sure } from '../../components/Sure'
import { api, take, type Schemas } from '../../api/client'
import { me, useCan } from '../../api/queries'
import { useAction } from '../../api/useAction'
import { TableMenu } from '../../components/ExportMenu'
import { useOutcome } from '../../components/Outcome'
import { Empty, Trouble, Wait } from '../../components/States'
import { clockTime, dayOf, shortDay } from '../../domain/months'
import { whole } from '../../domain/units'
import { PoolTabs } from '../pools/PoolTabs'
import { SizesTable } from './SizesTable'
import { SourceDialog } from './SourceDialog'

type Source = Schemas['SourceBody']
type Run = Schemas['RunBody']
const KINDS = { imap: 'mail store', objects: 'object store', tree: 'folders', drop: 'dropped tables' }
const OUTCOMES: Record<string, [string, string]> = {
  done: ['done', ''],
  stopped: ['stopped', 'near'],
  failed: ['■ failed', 'over'],
}

/** Which systems say who stores how much, and what did they say last? */
export default function SystemsScreen() {
  const who = useQuery(me).data
  const found = useQuery({
    queryKey: ['storage sources'],
    queryFn: () => take(api.GET('/api/storage-sources')),
    refetchInterval: 5000,
  })
  const changes = useCan('devices.change')
  const [editing, setEditing] = useState<Source | 'new' | null>(null)
  const [uploading, setUploading] = useState(false)
  const [shown, setShown] = useState<number | null>(null)
  const outcome = useOutcome()
  const { run, busy, trouble } = useAction('storage sources', 'storage')
  if (found.isError) return <Trouble page="Storage systems" error={found.error} again={() => void found.refetch()} />
  if (!found.data || !who) return <Wait what="the storage systems" />
  const ask = (source: Source, dry: boolean) =>
    run(async () => {
      await take(
        api.POST('/api/storage-sources/{number}/run', {
          params: { path: { number: source.number }, query: { dry } },
        }),
      )
      outcome(dry ? `${source.terms.name} is being tried; nothing is recorded.` : `${source.terms.name} is being read.`)
    })
  const remove = (source: Source) =>
    run(async () => {
      await take(api.DELETE('/api/storage-sources/{number}', { params: { path: { number: source.number } } }))
      outcome(`${source.terms.name} is asked no longer; what it said stays.`)
    })
  const limits = found.data.some((each) => each.terms.sets_limits)
  return (
    <>
      <div className="bar tightbar">
        <h1>Storage systems</h1>
        <PoolTabs at="systems" />
        <span className="grow" />
        {trouble && (
          <span className="over small" role="alert">
            {trouble}
          </span>
        )}
        {found.data.length > 0 && <TableMenu name="storage-systems" of="Storage systems" />}
        {changes && (
          <>
            <Button variant="outline-primary" onClick={() => setUploading(true)}>
              Upload sizes…
            </Button>
            <Button onClick={() => setEditing('new')}>Add system…</Button>
          </>
        )}
      </div>
      <div className="scroll account" role="region" aria-label="Storage systems" tabIndex={0}>
        <div className="onecolumn wide">
          <Unplaced changes={changes} />
          {found.data.length === 0 ? (
            <Empty title="No systems yet">
              Add a mail store, an object store or a tree of folders: it is asked by itself who stores how much. Other
              systems report with a key from{' '}
              <Link to="/keys" className="text-decoration-underline">
                Keys
              </Link>
              , or drop tables of sizes.
            </Empty>
          ) : (
            <table className="ledger" aria-label="Storage systems">
              <thead>
                <tr>
                  <th>System</th>
                  <th>Account, product</th>
                  <th>Last run</th>
                  <th className="fig">Read</th>
                  <th className="fig">Recorded</th>
                  {limits && <th className="fig">Limits set</th>}
                  <th className="fig">Errors</th>
                  <th>Next</th>
                  <th>
                    <span className="visually-hidden">Do</span>
                  </th>
                </tr>
              </thead>
              <tbody>
                {found.data.map((each) => (
                  <SourceRows
                    key={each.number}
                    source={each}
                    now={who.now}
                    changes={changes}
                    limits={limits}
                    busy={busy}
                    open={shown === each.number}
                    toggle={() => setShown(shown === each.number ? null : each.number)}
                    ask={(dry) => void ask(each, dry)}
                    edit={() => setEditing(each)}
                    remove={() => void remove(each)}
                  />
                ))}
              </tbody>
            </table>
          )}
        </div>
      </div>
      {editing && (
        <SourceDialog
          source={editing === 'new' ? null : editing}
          account={who.running.account}
          isOperator={who.running.kind === 'operator'}
          close={() => setEditing(null)}
          done={(said) => {
            setEditing(null)
            outcome(said)
          }}
        />
      )}
      {uploading && (
        <SizesTable
          account={who.running.account}
          close={() => setUploading(false)}
          done={(said) => {
            setUploading(false)
            outcome(said)
          }}
        />
      )}
    </>
  )
}

function SourceRows({
  source,
  now,
  changes,
  limits,
  busy,
  open,
  toggle,
  ask,
  edit,
  remove,
}: {
  source: Source
  now: string
  changes: boolean
  /** Whether there is a column for the limits that were set. */
  limits: boolean
  busy: boolean
  open: boolean
  toggle: () => void
  ask: (dry: boolean) => void
  edit: () => void
  remove: () => void
}) {
  const [last] = source.runs
  return (
    <>
      <tr>
        <td>
          <b>{source.terms.name}</b>
          <div className="quiet small">
            {KINDS[source.terms.kind]} {source.terms.host ?? source.terms.folder}
          </div>
        </td>
        <td>
          {source.account_name}
          <div className="quiet small">{source.product_name}</div>
        </td>
        <td>
          {last ? (
            <button type="button" className="btn btn-link p-0" aria-expanded={open} onClick={toggle}>
              <RunState run={last} />
            </button>
          ) : (
            <span className="quiet">not yet</span>
          )}
        </td>
        <td className="fig">{last ? whole(last.found) : '–'}</td>
        <td className="fig">{last ? whole(last.recorded) : '–'}</td>
        {limits && <td className="fig">{last && source.terms.sets_limits ? whole(last.limited) : '–'}</td>}
        <td className={last?.troubles ? 'fig near' : 'fig'}>{last ? whole(last.troubles) : '–'}</td>
        <td className="quiet small">
          <span className="text-nowrap">
            {source.terms.paused
              ? 'paused'
              : Date.parse(source.due_at) <= Date.parse(now)
                ? 'now'
                : `${shortDay(dayOf(source.due_at))}, ${clockTime(source.due_at)}`}
          </span>
          {source.failures > 1 && <span className="near"> after {source.failures} failures</span>}
        </td>
        <td className="text-nowrap text-end">
          {changes && (
            <>
              <Button size="sm" variant="outline-primary" disabled={busy} onClick={() => ask(true)}>
                Try
              </Button>{' '}
              <Button size="sm" variant="outline-primary" disabled={busy} onClick={() => ask(false)}>
                Read now
              </Button>{' '}
              <Dropdown align="end" className="d-inline-block" autoClose="outside">
                <Dropdown.Toggle size="sm" variant="outline-primary" aria-label={`More for ${source.terms.name}`}>
                  More
                </Dropdown.Toggle>
                <Dropdown.Menu>
                  <Dropdown.Item as="button" onClick={edit}>
                    Change…
                  </Dropdown.Item>
                  <div className="dropdown-item-text">
                    <Sure act="Remove" of={source.terms.name} means="Recorded sizes are kept." run={remove} inLine />
                  </div>
                </Dropdown.Menu>
              </Dropdown>
            </>
          )}
        </td>
      </tr>
      {open &&
        source.runs.map((run) => (
          <tr key={run.began_at} className="small">
            <td colSpan={2} />
            <td colSpan={limits ? 7 : 6}>
              <RunState run={run} />{' '}
              <span className="quiet">
                {run.kind === 'dry' ? 'tried' : run.kind === 'between' ? 'what changed' : 'everything'}:{' '}
                {whole(run.found)} read, {whole(run.recorded)} recorded, {whole(run.troubles)}{' '}
                {run.troubles === 1 ? 'error' : 'errors'}
              </span>
              {run.says && <pre className="mb-0">{run.says}</pre>}
            </td>
          </tr>
        ))}
    </>
  )
}

function RunState({ run }: { run: Run }) {
  if (run.outcome === null) return <span>reading, {whole(run.found)} so far</span>
  const [says, tone] = OUTCOMES[run.outcome] ?? [run.outcome, '']
  return (
    <span className={tone}>
      {run.kind === 'dry' ? 'tried' : says} {shortDay(dayOf(run.began_at))}, {clockTime(run.began_at)}
    </span>
  )
}

/** Reports of accounts that nobody knows: to be recorded once there is such an account, or dropped. */
function Unplaced({ changes }: { changes: boolean }) {
  const found = useQuery({
    queryKey: ['storage', 'unplaced'],
    queryFn: () => take(api.GET('/api/unplaced-reports')),
  })
  const { run, busy, trouble } = useAction('storage')
  const outcome = useOutcome()
  if (!found.data?.total) return null
  const act = (what: 'place' | 'drop', accounts: string[]) =>
    run(async () => {
      const { done, left } = await take(api.POST('/api/unplaced-reports', { body: { act: what, accounts } }))
      const rest = left ? ` ${whole(left)} are left; do it again.` : ''
      outcome(
        `${whole(done)} ${done === 1 ? 'report' : 'reports'} ${what === 'place' ? 'recorded' : 'dropped'}.${rest}`,
      )
    })
  return (
    <section aria-label="Reports without an account" className="mb-3">
      <h2 className="sub">Reports without an account</h2>
      <p className="quiet small">
        {whole(found.data.total)} {found.data.total === 1 ? 'report is' : 'reports are'} kept of accounts that nobody
        here knows.
      </p>
      {trouble && (
        <p className="over small" role="alert">
          {trouble}
        </p>
      )}
      <table className="ledger tight" aria-label="Reports without an account">
        <thead>
          <tr>
            <th>Reported as</th>
            <th>Product</th>
            <th className="fig">Reports</th>
            <th>Newest</th>
            <th>
              <span className="visually-hidden">Do</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {found.data.rows.map((each) => (
            <tr key={`${each.account} ${each.product}`}>
              <td>{each.account}</td>
              <td className="quiet">{each.product_name}</td>
              <td className="fig">{whole(each.reports)}</td>
              <td className="quiet">{shortDay(dayOf(each.newest))}</td>
              <td className="text-end">
                {changes && each.now_known && (
                  <Button size="sm" disabled={busy} onClick={() => void act('place', [each.account])}>
                    Record
                  </Button>
                )}{' '}
                {changes && (
                  <Button
                    size="sm"
                    variant="outline-primary"
                    disabled={busy}
                    onClick={() => void act('drop', [each.account])}
                  >
                    Drop
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  )
}
