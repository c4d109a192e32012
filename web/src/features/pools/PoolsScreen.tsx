import { useQuery } from '@tanstack/react-query'
import { TableMenu } from '../../components/ExportMenu'
import { useDeferredValue, useEffect, useRef, useState } from 'react'
import { Button, Form, Modal } from 'react-bootstrap'
import { Link, useSearchParams } from 'react-router'
import { api, take, type Schemas } from '../../api/client'
import { me, poolsNow, poolTimeline, useCan } from '../../api/queries'
import { PoolChart } from '../../charts/PoolChart'
import type { Change } from '../../domain/draft'
import { fullSaid } from '../../domain/filling'
import { dayName, dayOf, monthAfter, nextDay } from '../../domain/months'
import { decimal, parseUnits, units, unitName } from '../../domain/units'
import { holders } from '../../components/holders'
import { FindField } from '../../components/FindField'
import { usePages } from '../../components/usePages'
import { Empty, Trouble, Wait } from '../../components/States'
import { useDraft } from '../drafts/context'
import { storageTotal } from '../storage/queries'
import { CalendarButton } from './CalendarButton'
import { InvoiceCheck } from './InvoiceCheck'
import { LotForm, type BuyingFrom, type Lot } from './LotForm'
import { PlanPanel } from './PlanPanel'
import { ProductLink } from './ProductScreen'
import { ProductForm, products, type ProductBody } from './ProductForm'
import { PoolList } from './PoolList'
import { PoolTabs } from './PoolTabs'
import { DayField } from '../../components/DayField'

type PoolBody = Schemas['PoolBody']
/** More pools than this are searched. */
const MANY = 15

/** What did we buy, what of it is promised, used, idle, and when does it end? */
export default function PoolsScreen() {
  const who = useQuery(me).data
  const every = useQuery({ ...products, enabled: who?.running.kind === 'operator' }).data
  const draft = useDraft()
  const [params, setParams] = useSearchParams()
  const find = params.get('find') ?? ''
  const words = useDeferredValue(find)
  const list = usePages(['pools', 'list', words], (offset, limit) =>
    take(api.GET('/api/pools', { params: { query: { find: words, offset, limit } } })),
  )
  const [many, setMany] = useState(false)
  const isMany = list.total !== undefined && list.total > MANY
  useEffect(() => {
    // The box one types in stays where less is found.
    if (isMany) setMany(true)
  }, [isMany])
  const [product, owner] = [params.get('product') ?? undefined, params.get('owner') ?? undefined]
  const asked = useQuery({ ...poolsNow({ product, owner, limit: 1 }), enabled: product !== undefined })
  const current = asked.isLoading ? undefined : (asked.data?.rows[0] ?? list.rowAt(0))
  const waits = list.total === undefined || asked.isLoading || (list.total > 0 && !current)
  // What is chosen stays on screen while other words are looked for.
  const [before, setBefore] = useState<PoolBody>()
  useEffect(() => {
    if (current) setBefore(current)
  }, [current])
  const own = who?.running.account
  const owned = useQuery({ ...poolsNow({ owner: own, limit: 1 }), enabled: own !== undefined }).data
  const [form, setForm] = useState<{ product: ProductBody | null } | null>(
    params.get('new') === 'product' ? { product: null } : null,
  )
  const [checking, setChecking] = useState(false)
  const [first, setFirst] = useState<ProductBody | null>(null)
  if (list.error) return <Trouble page="Pools" error={list.error} again={() => void list.refetch()} />
  const chosen = current ?? (waits ? before : undefined)
  const mine = (code: string) => every?.find((each) => each.code === code) ?? null
  const unbought = (every ?? []).filter((each) => !each.pooled)
  const choose = (pool: PoolBody) =>
    setParams({ owner: pool.owner, product: pool.product, ...(find && { find }) }, { replace: true })
  return (
    <>
      <div className="bar">
        <h1>Pools</h1>
        <PoolTabs at="pools" />
        <span className="grow" />
        {every && (
          <Button variant="outline-primary" onClick={() => setForm({ product: null })}>
            New product
          </Button>
        )}
        {(find || many) && (
          <FindField
            label="Find a pool"
            group="Pools"
            find={find}
            onFind={(words) => setParams(words ? { find: words } : {}, { replace: true })}
            placeholder="Find a pool  /"
          />
        )}
        {owned && owned.total > 0 && (
          <Button variant="outline-primary" onClick={() => setChecking(true)}>
            Check an invoice…
          </Button>
        )}
        <CalendarButton />
        <TableMenu name="lots" of="Lots" costs />
      </div>
      {checking && who && (
        <InvoiceCheck
          owner={who.running.account}
          present={monthAfter(dayOf(who.now).slice(0, 7), -1)}
          close={() => setChecking(false)}
        />
      )}
      {form && <ProductForm product={form.product} close={() => setForm(null)} />}
      {first && who && (
        <LotForm
          pool={firstPool(first, who.running)}
          renews={null}
          today={who.now.slice(0, 10)}
          put={(lot) => draft.set([lot])}
          close={() => setFirst(null)}
        />
      )}
      {unbought.length > 0 && (
        <section aria-label="Products without a purchase" className="unbought">
          <b>Not bought yet:</b>
          {unbought.map((each) => (
            <span key={each.code}>
              {each.name}{' '}
              <Button size="sm" onClick={() => setFirst(each)} aria-label={`Buy ${each.name}`}>
                Buy
              </Button>{' '}
              <Button
                size="sm"
                variant="outline-primary"
                onClick={() => setForm({ product: each })}
                aria-label={`Change ${each.name}`}
              >
                Change
              </Button>
            </span>
          ))}
        </section>
      )}
      {!chosen && waits ? (
        <Wait what="the pools" />
      ) : !chosen && find ? (
        <Empty title="No pool found">No pool has all of these words in its product, owner or orders.</Empty>
      ) : !chosen ? (
        <Empty title="No pools here">
          {!every
            ? 'This branch owns no pools. Request more on the account page.'
            : every.length === 0
              ? 'Add a product first: what you buy and hand down.'
              : 'Buy the first lot of a product; that makes its pool.'}
        </Empty>
      ) : (
        <div className="pools">
          <PoolList
            total={list.total ?? 0}
            rowAt={list.rowAt}
            onShown={list.onShown}
            chosen={chosen}
            own={who?.running.account}
            choose={choose}
          />
          <Chosen
            pool={chosen}
            change={mine(chosen.product) ? () => setForm({ product: mine(chosen.product) }) : null}
            key={`${chosen.owner} ${chosen.product}`}
          />
        </div>
      )}
    </>
  )
}

/** What the first purchase of a product needs of its pool, which is not there yet. */
function firstPool(product: ProductBody, operator: { account: string; currency: string | null }): BuyingFrom {
  return {
    owner: operator.account,
    product: product.code,
    name: product.name,
    unit: product.unit ?? product.measure,
    per_unit: product.per_unit,
    currency: operator.currency ?? '',
    lots: [],
  }
}

function Chosen({ pool, change }: { pool: PoolBody; change: (() => void) | null }) {
  const draft = useDraft()
  const drafted = Object.values(draft.changes).filter(
    (each): each is Extract<Change, { kind: 'new lot' | 'lot end' }> =>
      (each.kind === 'new lot' || each.kind === 'lot end') &&
      each.product === pool.product &&
      each.owner === pool.owner,
  )
  const { facts } = draft
  const planned = drafted.length && facts ? { id: facts.id, revision: facts.revision } : null
  const found = useQuery(poolTimeline(pool.owner, pool.product, planned))
  const buys = useCan('accounts.change')
  const frame = useRef<HTMLDivElement>(null)
  const [width, setWidth] = useState(700)
  const [buying, setBuying] = useState<{ renews: Lot | null } | null>(null)
  // Whoever comes to buy, renew or plan finds the form open, of that pool: another may be shown until it has come.
  const [query, setQuery] = useSearchParams()
  const isAsked =
    (query.get('product') ?? pool.product) === pool.product && (query.get('owner') ?? pool.owner) === pool.owner
  const comes = buys && isAsked ? (query.get('renew') ?? (query.get('new') === 'lot' ? '' : null)) : null
  useEffect(() => {
    if (comes === null) return
    setBuying({ renews: pool.lots.find((each) => each.reference === comes) ?? null })
    setQuery({ owner: pool.owner, product: pool.product }, { replace: true })
  }, [comes, pool, setQuery])
  const [ending, setEnding] = useState<{ lot: Lot; split: boolean } | null>(null)
  const asked = isAsked ? query.get('plan') : null
  const [plan, setPlan] = useState<string | null>(asked)
  useEffect(() => {
    if (asked) setPlan(asked)
  }, [asked])
  useEffect(() => {
    if (!frame.current) return
    const watch = new ResizeObserver(([entry]) => {
      if (entry) setWidth(entry.contentRect.width)
    })
    watch.observe(frame.current)
    return () => watch.disconnect()
  }, [])
  const stores = useCan('people.see')
  const stored = useQuery({
    ...storageTotal(pool.product, pool.owner, ''),
    enabled: pool.measure === 'storage' && stores,
  })
  const unit = unitName(pool.unit, 2)
  const today = found.data?.today ?? pool.now.day
  const shown = [
    ...pool.lots.map((lot) => ({
      ...lot,
      last_day:
        drafted.find(
          (each) => each.kind === 'lot end' && each.reference === lot.reference && each.first_day === lot.first_day,
        )?.last_day ?? lot.last_day,
    })),
    ...drafted.flatMap((each) =>
      each.kind === 'new lot'
        ? [
            {
              reference: each.reference,
              quantity: each.quantity,
              first_day: each.first_day,
              last_day: each.last_day,
              unit_cost: each.unit_cost,
              true_up: each.true_up,
              overcommit: each.overcommit,
            },
          ]
        : [],
    ),
  ]
  const firstShort = found.data?.points.find((each) => each.short > 0 && each.day > today)
  return (
    <div className="poolside" role="region" aria-label={`${pool.name} of ${pool.owner_name}`} tabIndex={0}>
      <div className="bar flat">
        <h2>
          <ProductLink product={pool.product}>{pool.name}</ProductLink>{' '}
          <span className="quiet small">
            {pool.owner_name}, {unit}
          </span>
        </h2>
        <span className="legend" aria-hidden="true">
          <i className="lotkey" />
          lots
          <i className="promisedkey" />
          held
          <i className="usedkey" />
          used
          <i className="shortkey" />
          short
        </span>
        <span className="grow" />
        {firstShort && (
          <Button variant="outline-primary" onClick={() => setPlan(firstShort.day)}>
            Plan for {dayName(firstShort.day)}
          </Button>
        )}
        {change && (
          <Button variant="outline-primary" onClick={change}>
            Product…
          </Button>
        )}
        {buys && <Button onClick={() => setBuying({ renews: null })}>Buy</Button>}
      </div>
      <div ref={frame}>
        {found.isError ? (
          <Trouble error={found.error} />
        ) : !found.data ? (
          <Wait what="its past and what is ahead" />
        ) : (
          <PoolChart
            lots={shown}
            points={found.data.points}
            today={today}
            perUnit={pool.per_unit}
            unit={unit}
            width={width}
            height={250}
            onShort={setPlan}
          />
        )}
      </div>
      {plan && <PlanPanel pool={pool} day={plan} close={() => setPlan(null)} />}
      <p className="small mb-1 px-3">
        <Link to={holders({ ...pool, account: pool.owner })}>Holders, least active first</Link>
        {stored.data?.full && (
          <Link
            className="ms-3"
            to={`/storage?product=${encodeURIComponent(pool.product)}&account=${encodeURIComponent(pool.owner)}`}
          >
            Full at the present pace: {fullSaid(stored.data.full)}
          </Link>
        )}
      </p>
      <table className="ledger" aria-label="Lots">
        <thead>
          <tr>
            <th>Lot</th>
            <th className="fig">Quantity, {unit}</th>
            <th>First day</th>
            <th>Last day</th>
            <th className="fig costs">Price a month</th>
            <th className="fig">True-up</th>
            <th>
              <span className="visually-hidden">Do</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {pool.lots.map((lot) => {
            const over = lot.last_day !== null && lot.last_day < today
            return (
              <tr key={`${lot.reference} ${lot.first_day}`} className={over ? 'quiet' : undefined}>
                <td>
                  <b>{lot.reference}</b>
                </td>
                <td className="fig">{units(lot.quantity, pool.per_unit)}</td>
                <td>{dayName(lot.first_day)}</td>
                <td>{lot.last_day ? dayName(lot.last_day) : 'open'}</td>
                <td className="fig costs">
                  {decimal(lot.unit_cost, 2)} <span className="quiet small">{pool.currency}</span>
                </td>
                <td className="fig">{lot.true_up ? units(lot.true_up, pool.per_unit) : '–'}</td>
                <td className="text-nowrap">
                  {!over && buys && (
                    <>
                      <button
                        type="button"
                        className="btn btn-link btn-sm p-0 me-2"
                        aria-label={`Renew ${lot.reference}`}
                        onClick={() => setBuying({ renews: lot })}
                        disabled={!lot.last_day}
                      >
                        Renew
                      </button>
                      <button
                        type="button"
                        className="btn btn-link btn-sm p-0 me-2"
                        aria-label={`Split ${lot.reference}`}
                        onClick={() => setEnding({ lot, split: true })}
                      >
                        Split
                      </button>
                      <button
                        type="button"
                        className="btn btn-link btn-sm p-0"
                        aria-label={`End ${lot.reference}`}
                        onClick={() => setEnding({ lot, split: false })}
                      >
                        End
                      </button>
                    </>
                  )}
                </td>
              </tr>
            )
          })}
        </tbody>
      </table>
      {buying && (
        <LotForm
          pool={pool}
          renews={buying.renews}
          today={today}
          put={(lot) => draft.set([lot])}
          close={() => setBuying(null)}
        />
      )}
      {ending && (
        <EndForm
          pool={pool}
          lot={ending.lot}
          split={ending.split}
          today={today}
          put={draft.set}
          close={() => setEnding(null)}
        />
      )}
    </div>
  )
}

/** Let a lot end on another day, or split it from a day on into two that can end apart. */
function EndForm({
  pool,
  lot,
  split,
  today,
  put,
  close,
}: {
  pool: PoolBody
  lot: Lot
  split: boolean
  today: string
  put: (changes: Change[]) => void
  close: () => void
}) {
  const begins = lot.first_day > today ? lot.first_day : today
  const [day, setDay] = useState(split ? begins : (lot.last_day ?? today))
  const [typed, setTyped] = useState('')
  const part = parseUnits(typed, pool.per_unit)
  const sound = day !== '' && (!split || (part !== null && part > 0 && part < lot.quantity))
  const send = () => {
    const end: Change = {
      kind: 'lot end',
      owner: pool.owner,
      product: pool.product,
      reference: lot.reference,
      first_day: lot.first_day,
      last_day: split ? nextDay(day, -1) : day,
      was: lot.last_day,
    }
    const half = (suffix: string, quantity: number, trueUp: number): Change => ({
      kind: 'new lot',
      owner: pool.owner,
      product: pool.product,
      reference: `${lot.reference}${suffix}`,
      quantity,
      first_day: day,
      last_day: lot.last_day,
      unit_cost: lot.unit_cost,
      currency: pool.currency,
      true_up: trueUp,
      overcommit: lot.overcommit,
      renews: null,
    })
    put(split && part !== null ? [end, half('/1', part, lot.true_up), half('/2', lot.quantity - part, 0)] : [end])
    close()
  }
  return (
    <Modal show onHide={close} animation={false} aria-labelledby="end-title">
      <Form
        onSubmit={(event) => {
          event.preventDefault()
          if (sound) send()
        }}
      >
        <Modal.Header closeButton>
          <Modal.Title as="h2" id="end-title">
            {split ? `Split ${lot.reference}` : `End ${lot.reference}`}
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          <div className="lotform">
            <Form.Group controlId="end-day">
              <Form.Label>{split ? 'From this day on' : 'Last day'}</Form.Label>
              <DayField value={day} min={split ? begins : nextDay(today, -1)} autoFocus onDay={setDay} />
            </Form.Group>
            {split && (
              <Form.Group controlId="end-part">
                <Form.Label>
                  One part of the {units(lot.quantity, pool.per_unit)} {unitName(pool.unit, 2)}
                </Form.Label>
                <Form.Control
                  value={typed}
                  inputMode="decimal"
                  isInvalid={typed !== '' && !sound}
                  onChange={(event) => setTyped(event.target.value)}
                />
              </Form.Group>
            )}
          </div>
          <p className="quiet small mt-2">
            {split
              ? 'The lot ends the day before; its two parts begin, at the same price and until the same day, and can be ended or renewed apart.'
              : 'The draft shows what that leaves uncovered.'}
          </p>
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-primary" onClick={close}>
            Cancel
          </Button>
          <Button type="submit" disabled={!sound}>
            Add to draft
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  )
}
