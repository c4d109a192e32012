import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form, Modal } from 'react-bootstrap'
import { Link } from 'react-router'
import { few } from '../../domain/units'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { FindField } from '../../components/FindField'
import { LIST_KEYS } from '../../commands/listKeys'
import { useCommands, useActs } from '../../commands/registry'
import { dayName, dayOf, instantName } from '../../domain/months'
import { ExportMenu } from '../../components/ExportMenu'
import { useOutcome } from '../../components/Outcome'
import { PagedGrid } from '../../components/PagedGrid'
import { Empty, Trouble, Wait } from '../../components/States'
import { useMarked } from '../../components/usePages'
import type { Column } from '../../components/VirtualTable'
import { Chips, forFile, ListFilters, useListFilter } from './ListFilters'
import { DeviceTabs } from './DeviceTabs'
import { PersonField } from './PersonField'
import { publicKey, useDevices, CHANGES, type Device } from './queries'

const COLUMNS: Column<Device>[] = [
  {
    key: 'machine',
    title: 'Device',
    width: 'minmax(150px, 1.2fr)',
    sort: true,
    cell: (row) => (
      <>
        {row.machine}
        {row.name && row.name !== row.machine && <span className="quiet"> {row.name}</span>}
      </>
    ),
  },
  { key: 'product', title: 'Product', width: 'minmax(140px, 1fr)', sort: true, cell: (row) => row.product_name },
  {
    key: 'account',
    title: 'Account',
    width: 'minmax(150px, 1.5fr)',
    sort: true,
    cell: (row) => <span title={row.account_name}>{row.account_name}</span>,
  },
  {
    key: 'person',
    title: 'Person',
    width: 'minmax(130px, 1fr)',
    sort: true,
    cell: (row) =>
      row.username ? (
        <Link to={`/people/${encodeURIComponent(row.username)}`} tabIndex={-1}>
          {row.person}
        </Link>
      ) : (
        <span className="quiet">nobody</span>
      ),
  },
  { key: 'since', title: 'Since', width: '108px', sort: true, cell: (row) => dayName(dayOf(row.since)) },
  {
    key: 'state',
    title: 'State',
    width: '150px',
    cell: (row) =>
      row.state === 'revoking' ? (
        <span className="near">△ to be told</span>
      ) : row.state === 'revoked' ? (
        'revoked'
      ) : row.on_hold ? (
        <span className="over">■ on hold</span>
      ) : (
        'in use'
      ),
  },
  {
    key: 'reported',
    title: 'Reported',
    width: '150px',
    sort: true,
    cell: (row) =>
      row.offline_until ? (
        <span title="Works without a network until then">offline to {dayName(dayOf(row.offline_until))}</span>
      ) : row.reported_at ? (
        instantName(row.reported_at)
      ) : (
        <span className="quiet" title="Nothing on it reports">
          {row.reports ? 'never' : 'recorded only'}
        </span>
      ),
  },
]

/** Which machines use what, who has them, and which no longer should? */
export default function DevicesScreen() {
  const { asked, params, change, sorting, onSort } = useListFilter(
    'machine',
    'product',
    'account',
    'person',
    'since',
    'reported',
  )
  const revoked = params.get('show') === 'revoked'
  const found = useDevices(asked, revoked)
  const { marked, isMarked, mark, clear } = useMarked(found.rowAt, (row) => `${row.product} ${row.machine}`)
  const [doing, setDoing] = useState<'revoke' | 'give' | null>(null)
  const [answering, setAnswering] = useState(false)
  const outcome = useOutcome()
  useCommands(LIST_KEYS)
  const { run, trouble } = useAction(...CHANGES)
  const act = async (work: Promise<unknown>, done: string) => {
    await run(async () => {
      await work
      outcome(`${marked.length} ${marked.length === 1 ? 'device' : 'devices'} ${done}.`)
      clear()
    })
  }
  useActs(
    'Chosen devices',
    marked.length === 0 || revoked
      ? []
      : [
          { id: 'revoke-devices', name: 'Revoke…', run: () => setDoing('revoke') },
          { id: 'give-devices', name: 'Give to…', run: () => setDoing('give') },
        ],
  )
  const devices = marked.map((row) => ({ product: row.product, machine: row.machine }))
  const toBeTold = marked
    .filter((row) => row.state === 'revoking')
    .map((row) => ({ product: row.product, machine: row.machine }))
  return (
    <>
      <div className="bar tightbar">
        <h1>Devices</h1>
        <DeviceTabs at="devices" />
        <FindField label="Find a device" group="Devices" find={asked.find} onFind={(find) => change({ find })} />
        <span className="seg" role="group" aria-label="Which devices">
          <button
            type="button"
            aria-pressed={!revoked}
            onClick={() => {
              clear()
              change({ show: null })
            }}
          >
            In use
          </button>
          <button
            type="button"
            aria-pressed={revoked}
            onClick={() => {
              clear()
              change({ show: 'revoked' })
            }}
          >
            Revoked
          </button>
        </span>
        <ListFilters asked={asked} measure="device" change={change} />
        <span className="quiet small" role="status">
          {found.total === undefined ? '' : `${found.total} ${revoked ? 'revoked' : 'in use'}`}
        </span>
        <span className="grow" />
        <Button variant="outline-primary" onClick={() => setAnswering(true)}>
          Answer a request file…
        </Button>
        <ExportMenu path="/api/devices/export" params={{ ...forFile(asked), revoked: String(revoked) }} />
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
        <Wait what="the devices" />
      ) : found.total === 0 ? (
        <Empty title={revoked ? 'No device was revoked' : 'No devices'}>
          {asked.find || asked.account || asked.product
            ? 'Clear a filter or change the search.'
            : revoked
              ? 'Revoke a lost or unused device; its unit is free at once.'
              : 'Create an activation key under Keys; devices that use it appear here.'}
        </Empty>
      ) : (
        <PagedGrid
          total={found.total}
          rowAt={found.rowAt}
          onShown={found.onShown}
          columns={COLUMNS}
          rowKey={(row) => `${row.product} ${row.machine}`}
          label="Devices"
          sorting={sorting}
          onSort={onSort}
          isMarked={isMarked}
          mark={mark}
          markAll={(on) => (on ? mark(0, (found.total ?? 1) - 1, true) : clear())}
          comesHere={params.get('find') !== null}
          open={() => {
            if (marked.length) setDoing(revoked ? null : 'give')
          }}
        />
      )}
      {marked.length > 0 && (
        <section className="draftbar actbar" aria-label="Chosen devices">
          <span>
            <b>{marked.length} chosen</b>{' '}
            <button type="button" className="btn btn-link btn-sm p-0" aria-label="Clear selection" onClick={clear}>
              ×
            </button>
          </span>
          {revoked ? (
            <>
              {toBeTold.length > 0 && (
                <Button
                  size="sm"
                  variant="outline-primary"
                  onClick={() =>
                    void act(take(api.POST('/api/devices/confirm', { body: { devices: toBeTold } })), 'confirmed')
                  }
                >
                  Confirm that {toBeTold.length === 1 ? 'it is' : `${toBeTold.length} are`} gone
                </Button>
              )}
              <Button
                size="sm"
                variant="outline-primary"
                onClick={() => void act(take(api.POST('/api/devices/let-back', { body: { devices } })), 'reinstated')}
              >
                Reinstate
              </Button>
            </>
          ) : (
            <>
              <Button size="sm" variant="outline-primary" onClick={() => setDoing('give')}>
                Give to…
              </Button>
              <Button size="sm" variant="outline-primary" onClick={() => setDoing('revoke')}>
                Revoke…
              </Button>
            </>
          )}
        </section>
      )}
      {doing === 'revoke' && (
        <Modal show onHide={() => setDoing(null)} animation={false} aria-labelledby="revoke-title">
          <Modal.Header closeButton>
            <Modal.Title as="h2" id="revoke-title">
              Revoke: {few(marked.map((row) => row.machine))}
            </Modal.Title>
          </Modal.Header>
          <Modal.Body>
            <p>
              Released at once: {marked.length === 1 ? 'its unit is' : 'their units are'} free again, and no key lets{' '}
              {marked.length === 1 ? 'it' : 'them'} begin anew. Then: what reports is told when it reports next; until
              then it stands under Revoked as “to be told”, where you can confirm that it is gone.
            </p>
            {marked.some((row) => row.offline_until) && (
              <p className="near mb-0">Offline devices keep working until the day in their answer file.</p>
            )}
          </Modal.Body>
          <Modal.Footer>
            <Button variant="outline-primary" onClick={() => setDoing(null)}>
              Cancel
            </Button>
            <Button
              autoFocus
              onClick={() => {
                setDoing(null)
                void act(take(api.POST('/api/devices/revoke', { body: { devices } })), 'revoked')
              }}
            >
              Revoke {marked.length}
            </Button>
          </Modal.Footer>
        </Modal>
      )}
      {doing === 'give' && (
        <Give
          whom={few(marked.map((row) => row.machine))}
          close={() => setDoing(null)}
          give={(username) => {
            setDoing(null)
            void act(take(api.POST('/api/devices/give', { body: { devices, username } })), 'assigned to a person')
          }}
        />
      )}
      {answering && <Answer close={() => setAnswering(false)} />}
    </>
  )
}

function Give({ whom, close, give }: { whom: string; close: () => void; give: (username: string | null) => void }) {
  const [username, setUsername] = useState('')
  return (
    <Modal show onHide={close} animation={false} aria-labelledby="give-title">
      <Form
        onSubmit={(event) => {
          event.preventDefault()
          give(username.trim() || null)
        }}
      >
        <Modal.Header closeButton>
          <Modal.Title as="h2" id="give-title">
            Give {whom} to
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          <PersonField
            id="give-person"
            label={
              <>
                Person <span className="quiet">(empty = nobody)</span>
              </>
            }
            value={username}
            onChange={setUsername}
            autoFocus
          />
          <p className="quiet small mt-2 mb-0">
            A person of the device’s account or below. The unit stays counted where it is.
          </p>
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-primary" onClick={close}>
            Cancel
          </Button>
          <Button type="submit">Give</Button>
        </Modal.Footer>
      </Form>
    </Modal>
  )
}

function Answer({ close }: { close: () => void }) {
  const ours = useQuery(publicKey).data?.public_key
  const [request, setRequest] = useState<Record<string, unknown> | null>(null)
  const [days, setDays] = useState('')
  const [signed, setSigned] = useState<Schemas['SignedAnswer'] | null>(null)
  const { run, trouble } = useAction(...CHANGES)
  const read = (file: File | undefined) =>
    run(async () => {
      setRequest(null)
      if (!file) return
      if (file.size >= 10_000) throw new Error('This is no request file; one is smaller than 10 kB.')
      setRequest(
        (await new Response(file).json().catch(() => {
          throw new Error('This is no request file; have the device write a new one.')
        })) as Record<string, unknown>,
      )
    })
  const answer = () =>
    run(async () =>
      setSigned(
        await take(
          api.POST('/api/devices/offline', { body: { request: request ?? {}, days: days ? Number(days) : null } }),
        ),
      ),
    )
  const file = signed && URL.createObjectURL(new Blob([JSON.stringify(signed, null, 1)], { type: 'application/json' }))
  return (
    <Modal show onHide={close} animation={false} aria-labelledby="answer-title">
      <Form
        onSubmit={(event) => {
          event.preventDefault()
          void answer()
        }}
      >
        <Modal.Header closeButton>
          <Modal.Title as="h2" id="answer-title">
            Answer a request file
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          {signed && file ? (
            <>
              <p role="status">
                <b>{String(signed.answer.machine)}</b> has its unit of {String(signed.answer.product)}. Carry the answer
                back to it; it works without a network until {instantName(String(signed.answer.until))}.
              </p>
              <a className="btn btn-primary" href={file} download={`${String(signed.answer.machine)}-answer.json`}>
                Save the answer file
              </a>
            </>
          ) : (
            <>
              <p className="quiet">
                A machine without a network writes a request file. The signed answer lets it work for a while; its unit
                is taken now.
              </p>
              <div className="lotform">
                <Form.Group controlId="request-file">
                  <Form.Label>Request file</Form.Label>
                  <Form.Control
                    type="file"
                    accept=".json"
                    onChange={(event) => void read((event.target as HTMLInputElement).files?.[0])}
                  />
                </Form.Group>
                <Form.Group controlId="request-days">
                  <Form.Label>
                    Days <span className="quiet">(empty = as set for the account)</span>
                  </Form.Label>
                  <Form.Control
                    value={days}
                    inputMode="numeric"
                    maxLength={2}
                    onChange={(event) => setDays(event.target.value.replace(/\D/g, ''))}
                  />
                </Form.Group>
              </div>
            </>
          )}
          {trouble && (
            <p className="over mt-2 mb-0" role="alert">
              {trouble}
            </p>
          )}
          {ours && (
            <p className="quiet small mt-3 mb-0">
              Answers are checked with this server’s public key: <code>{ours}</code>
            </p>
          )}
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-primary" onClick={close}>
            Close
          </Button>
          {!signed && (
            <Button type="submit" disabled={!request}>
              Sign the answer
            </Button>
          )}
        </Modal.Footer>
      </Form>
    </Modal>
  )
}
