import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form, Modal } from 'react-bootstrap'
import { Link } from 'react-router'
import { Sure } from '../../components/Sure'
import { api, take } from '../../api/client'
import { useAction } from '../../api/useAction'
import { me, poolsNow, productsInSight } from '../../api/queries'
import { dayName, dayOf } from '../../domain/months'
import { few, whole } from '../../domain/units'
import { FindField } from '../../components/FindField'
import { ExportMenu } from '../../components/ExportMenu'
import { LIST_KEYS } from '../../commands/listKeys'
import { useCommands } from '../../commands/registry'
import { useOutcome } from '../../components/Outcome'
import { PagedGrid } from '../../components/PagedGrid'
import { Empty, Trouble, Wait } from '../../components/States'
import { useRested } from '../../components/useRested'
import { useMarked } from '../../components/usePages'
import type { Column } from '../../components/VirtualTable'
import { AssignNumbers } from './AssignNumbers'
import { Chips, forFile, ListFilters, useListFilter } from './ListFilters'
import { DeviceTabs } from './DeviceTabs'
import { CHANGES, useItems, type Item, type ItemState } from './queries'

const STATES: [ItemState, string][] = [
  ['assigned', 'In use'],
  ['free', 'Free'],
  ['reserved', 'On hold for selection'],
  ['withdrawn', 'Withdrawn'],
]

function columns(state: ItemState): Column<Item>[] {
  const number: Column<Item> = {
    key: 'number',
    title: 'Number',
    width: 'minmax(170px, 1fr)',
    sort: true,
    cell: (row) => row.number,
  }
  if (state !== 'assigned')
    return [
      number,
      {
        key: 'since',
        title: 'In the stock since',
        width: '150px',
        sort: true,
        cell: (row) => dayName(dayOf(row.since)),
      },
      {
        key: 'state',
        title: 'State',
        width: 'minmax(200px, 2fr)',
        cell: (row) => (row.until ? `${row.mine ? 'held by you' : 'held by someone'} for a few minutes` : row.state),
      },
    ]
  return [
    number,
    {
      key: 'account',
      title: 'Account',
      width: 'minmax(160px, 1.4fr)',
      sort: true,
      cell: (row) => <span title={row.account_name ?? undefined}>{row.account_name}</span>,
    },
    {
      key: 'person',
      title: 'Person',
      width: 'minmax(140px, 1fr)',
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
    {
      key: 'address',
      title: 'Address',
      width: 'minmax(190px, 2fr)',
      sort: true,
      cell: (row) =>
        row.address ?? (
          <span
            className={row.recorded ? 'quiet' : 'near'}
            title={row.recorded ? 'It was in use before its address was asked for' : ''}
          >
            {row.recorded ? 'not recorded' : 'none'}
          </span>
        ),
    },
    { key: 'since', title: 'Since', width: '110px', sort: true, cell: (row) => dayName(dayOf(row.since)) },
  ]
}

/** Which numbers are there, who uses which, and where? */
export default function NumbersScreen() {
  const products = useQuery(productsInSight).data
  const { asked, params, change, sorting, onSort } = useListFilter('number', 'account', 'person', 'address', 'since')
  const kinds = products?.filter((each) => each.measure === 'item') ?? []
  const product = params.get('product') ?? kinds[0]?.product ?? ''
  const state = STATES.find(([key]) => key === params.get('state'))?.[0] ?? 'assigned'
  const found = useItems(product, state, asked)
  const { marked, isMarked, mark, clear } = useMarked(found.rowAt, (row) => row.number)
  const owned = (useQuery({ ...poolsNow({ product, limit: 1 }), enabled: product !== '' }).data?.total ?? 0) > 0
  const [doing, setDoing] = useState<'assign' | 'bring in' | null>(null)
  const outcome = useOutcome()
  useCommands(LIST_KEYS)
  const { run, trouble } = useAction(...CHANGES)
  if (!products) return <Wait what="the numbers" />
  const act = async (what: 'release' | 'withdraw') => {
    await run(async () => {
      await take(
        api.POST(`/api/items/{product}/${what}`, {
          params: { path: { product } },
          body: { numbers: marked.map((each) => each.number) },
        }),
      )
      outcome(
        `${marked.length} ${marked.length === 1 ? 'number' : 'numbers'} ${what === 'release' ? 'released' : 'withdrawn'}.`,
      )
      clear()
    })
  }
  return (
    <>
      <div className="bar tightbar">
        <h1>Numbers</h1>
        <DeviceTabs at="numbers" />
        {kinds.length > 1 && (
          <Form.Select
            aria-label="Product"
            style={{ width: 180 }}
            value={product}
            onChange={(event) => {
              clear()
              change({ product: event.target.value })
            }}
          >
            {kinds.map((each) => (
              <option key={each.product} value={each.product}>
                {each.name}
              </option>
            ))}
          </Form.Select>
        )}
        <span className="seg" role="group" aria-label="Which numbers">
          {STATES.map(([key, says]) => (
            <button
              type="button"
              key={key}
              aria-pressed={state === key}
              onClick={() => {
                clear()
                change({ state: key, account: null, sort: null, down: null })
              }}
            >
              {says}
            </button>
          ))}
        </span>
        <FindField
          label="Find a number"
          group="Numbers"
          find={asked.find}
          onFind={(find) => change({ find })}
          width={150}
        />
        {state === 'assigned' && <ListFilters asked={asked} change={change} />}
        <span className="quiet small" role="status">
          {found.total === undefined ? '' : `${whole(found.total)} ${found.total === 1 ? 'number' : 'numbers'}`}
        </span>
        <span className="grow" />
        {owned && (
          <Button variant="outline-primary" onClick={() => setDoing('bring in')}>
            Import…
          </Button>
        )}
        {product && (
          <ExportMenu
            path={`/api/items/${encodeURIComponent(product)}/export`}
            named="numbers"
            params={{ ...forFile({ ...asked, product: undefined }), state }}
          />
        )}
      </div>
      <Chips asked={{ account: asked.account }} change={change} />
      {trouble && (
        <p className="over px-3 mb-1" role="alert">
          {trouble}
        </p>
      )}
      {found.error ? (
        <Trouble error={found.error} again={() => void found.refetch()} />
      ) : found.total === undefined ? (
        <Wait what="the numbers" />
      ) : found.total === 0 ? (
        <Empty title={kinds.length ? 'None here' : 'No numbered products'}>
          {kinds.length
            ? state === 'free'
              ? 'Import numbers: one per line, or a range.'
              : 'No numbers in this state.'
            : 'No pool you can use has numbered units.'}
        </Empty>
      ) : (
        <PagedGrid
          key={state}
          total={found.total}
          rowAt={found.rowAt}
          onShown={found.onShown}
          columns={columns(state)}
          rowKey={(row) => row.number}
          label="Numbers"
          sorting={sorting}
          onSort={onSort}
          isMarked={isMarked}
          mark={mark}
          markAll={(on) => (on ? mark(0, (found.total ?? 1) - 1, true) : clear())}
          comesHere={params.get('find') !== null}
          open={() => {
            if (marked.length && state !== 'assigned') setDoing('assign')
          }}
        />
      )}
      {marked.length > 0 && state !== 'withdrawn' && (
        <section className="draftbar actbar" aria-label="Chosen numbers">
          <span>
            <b>{marked.length} chosen</b>{' '}
            <button type="button" className="btn btn-link btn-sm p-0" aria-label="Clear selection" onClick={clear}>
              ×
            </button>
          </span>
          {state === 'assigned' ? (
            <Sure
              act={`Release ${marked.length}`}
              of=""
              means={`${few(marked.map((each) => each.number))}: back in stock.`}
              run={() => void act('release')}
            />
          ) : (
            <>
              <Button size="sm" variant="outline-primary" onClick={() => setDoing('assign')}>
                Assign…
              </Button>
              {owned && (
                <Sure
                  act={`Take ${marked.length} out of the stock`}
                  of=""
                  means={`${few(marked.map((each) => each.number))}: no longer in stock.`}
                  run={() => void act('withdraw')}
                />
              )}
            </>
          )}
        </section>
      )}
      {doing === 'assign' && (
        <AssignNumbers
          product={product}
          numbers={marked.map((each) => each.number)}
          close={() => setDoing(null)}
          done={clear}
        />
      )}
      {doing === 'bring in' && <BringIn product={product} close={() => setDoing(null)} />}
    </>
  )
}

/** So many owners are offered; where there are more, they are found by words. */
const OWNERS = 200

function BringIn({ product, close }: { product: string; close: () => void }) {
  const top = useQuery(me).data?.running.account ?? ''
  const [sought, seek] = useState('')
  const find = useRested(sought.trim(), 200)
  const pools = useQuery({ ...poolsNow({ product, find, limit: OWNERS }), placeholderData: keepPreviousData }).data
  const owners = pools?.rows ?? []
  const isMany = sought !== '' || (pools !== undefined && pools.total > OWNERS)
  const [chosen, setOwner] = useState('')
  const owner = chosen || (owners.find((each) => each.owner === top) ?? owners[0])?.owner || (isMany ? '' : top)
  const [numbers, setNumbers] = useState('')
  const { run, trouble } = useAction(...CHANGES)
  const bring = async () => {
    await run(async () => {
      await take(api.POST('/api/items/{product}', { params: { path: { product } }, body: { owner, numbers } }))
      close()
    })
  }
  return (
    <Modal show onHide={close} animation={false} aria-labelledby="bring-title">
      <Form
        onSubmit={(event) => {
          event.preventDefault()
          void bring()
        }}
      >
        <Modal.Header closeButton>
          <Modal.Title as="h2" id="bring-title">
            Import numbers
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          {isMany && (
            <Form.Control
              className="mb-1"
              aria-label="Find a pool owner"
              placeholder="Find a pool owner"
              value={sought}
              onChange={(event) => {
                seek(event.target.value)
                setOwner('')
              }}
            />
          )}
          <Form.Group controlId="bring-owner" className="mb-2">
            <Form.Label>Pool owner</Form.Label>
            <Form.Select value={owner} onChange={(event) => setOwner(event.target.value)}>
              {isMany && owners.length === 0 && <option value="">No owner of a pool is called that</option>}
              {owners.map((each) => (
                <option key={each.owner} value={each.owner}>
                  {each.owner_name}
                </option>
              ))}
            </Form.Select>
          </Form.Group>
          <Form.Group controlId="bring-numbers">
            <Form.Label>Numbers, one per line, or a range: first - last</Form.Label>
            <Form.Control
              as="textarea"
              rows={6}
              autoFocus
              className="mono"
              spellCheck={false}
              placeholder="+44 20 7946 0100 - +44 20 7946 0119"
              value={numbers}
              onChange={(event) => setNumbers(event.target.value)}
            />
          </Form.Group>
          <p className="quiet small mt-2 mb-0">
            All, or none. How many may be assigned at once is the lots’ to say; these are which.
          </p>
          {trouble && (
            <p className="over mt-2 mb-0" role="alert">
              {trouble}
            </p>
          )}
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-primary" onClick={close}>
            Cancel
          </Button>
          <Button type="submit" disabled={!numbers.trim() || (isMany && owners.length === 0)}>
            Import
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  )
}
