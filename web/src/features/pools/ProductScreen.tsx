import { queryOptions, useQuery } from '@tanstack/react-query'
import { Link, useParams } from 'react-router'
import { api, take, type Schemas } from '../../api/client'
import { me, poolsNow, useCan } from '../../api/queries'
import { dayName, dayOf, shortDay } from '../../domain/months'
import { shortUnits, units, unitName, whole } from '../../domain/units'
import { AccountLink } from '../../components/AccountLink'
import { Gauge } from '../../components/Gauge'
import { holders } from '../../components/holders'
import { StateMark, Trouble, Wait } from '../../components/States'
import { seatQueue } from '../people/queries'

type Facts = Schemas['ProductPage']

const SHOWN = 12

const facts = (product: string) =>
  queryOptions({
    queryKey: ['allocations', 'product', product],
    queryFn: () => take(api.GET('/api/allocations/products/{product}', { params: { path: { product } } })),
    retry: false,
  })

const accountsOf = (product: string, below: string) =>
  queryOptions({
    queryKey: ['allocations', 'product', product, 'below', below],
    queryFn: () =>
      take(
        api.POST('/api/allocations/rows', {
          body: {
            product: [product],
            below,
            limit: 500,
            all_open: false,
            branches: [],
            compares: false,
            find: '',
            first: 0,
            names_alone: false,
            show: 'all',
          },
        }),
      ),
    staleTime: 15_000,
  })

const leastUsed = (product: string) =>
  queryOptions({
    queryKey: ['people', 'of product', product],
    queryFn: () =>
      take(api.GET('/api/people', { params: { query: { product, sort: 'last_seen', down: false, limit: 8 } } })),
  })

/** What is in a product, what was bought of it, where is room, who has it and who waits? */
export default function ProductScreen() {
  const { product = '' } = useParams()
  const found = useQuery(facts(product))
  const who = useQuery(me).data
  const seesPeople = useCan('people.see')
  if (found.isError) return <Trouble page="Product" error={found.error} again={() => void found.refetch()} />
  if (!found.data || !who) return <Wait what="the product" />
  const body = found.data
  return (
    <>
      <div className="bar">
        <h1>{body.name}</h1>
        <span className="tag">{body.product}</span>
        <span className="quiet small">counted in {unitName(body.unit, 2)}</span>
        <span className="grow" />
        <Link className="btn btn-outline-primary" to={holders({ ...body, account: who.running.account })}>
          Holders
        </Link>
        <Link
          className="btn btn-outline-primary"
          to={`/allocations?product=${encodeURIComponent(product)}&pools=${encodeURIComponent(product)}`}
        >
          Allocations
        </Link>
      </div>
      <div className="scroll account" role="region" aria-label={body.name} tabIndex={0}>
        <div className="columns">
          <div>
            <Room body={body} top={who.running.account} />
            <Lots product={product} />
          </div>
          <aside>
            <Contents body={body} />
            {seesPeople && body.measure === 'seat' && <LeastUsed product={product} />}
            {seesPeople && body.measure === 'seat' && <WhoWaits product={product} />}
          </aside>
        </div>
      </div>
    </>
  )
}

function Contents({ body }: { body: Facts }) {
  const names = (of: Facts['bases']) =>
    of.map((each, place) => (
      <span key={each.product}>
        {place > 0 && ', '}
        <ProductLink product={each.product}>{each.name}</ProductLink>
      </span>
    ))
  return (
    <section aria-label="Contents">
      <h2 className="sub">Contents</h2>
      <dl className="facts">
        {body.components.length > 0 && (
          <>
            <dt>Components</dt>
            <dd>
              {body.components.map((each, place) => (
                <span key={each.name}>
                  {place > 0 && ', '}
                  {each.name}
                  {each.mandatory && <span className="quiet"> (always on)</span>}
                </span>
              ))}
            </dd>
          </>
        )}
        {body.bases.length > 0 && (
          <>
            <dt>Add-on to</dt>
            <dd>{names(body.bases)}</dd>
          </>
        )}
        {body.add_ons.length > 0 && (
          <>
            <dt>Add-ons</dt>
            <dd>{names(body.add_ons)}</dd>
          </>
        )}
        {body.family.length > 0 && (
          <>
            <dt>Family</dt>
            <dd>
              {names(body.family)}
              <div className="quiet small">From lowest to highest: a person gets the highest one granted.</div>
            </dd>
          </>
        )}
        {body.successor && (
          <>
            <dt>Upgrade</dt>
            <dd>{names([body.successor])}</dd>
          </>
        )}
      </dl>
      {body.components.length + body.bases.length + body.add_ons.length + body.family.length === 0 &&
        !body.successor && <p className="quiet">One product by itself: no components, add-ons or family.</p>}
    </section>
  )
}

/** A product by its name, with its page. */
export function ProductLink({ product, children }: { product: string; children: React.ReactNode }) {
  return <Link to={`/products/${encodeURIComponent(product)}`}>{children}</Link>
}

function Room({ body, top }: { body: Facts; top: string }) {
  const found = useQuery(accountsOf(body.product, top))
  if (found.isError) return <Trouble error={found.error} again={() => void found.refetch()} />
  if (!found.data) return <Wait what="the accounts" />
  const { accounts, count } = found.data
  const pool = found.data.pools[0]
  if (!pool) return null
  const rows = accounts.code
    .map((code, at) => ({
      code,
      name: accounts.name[at] ?? code,
      used: pool.used_by[at] ?? 0,
      load: pool.load[at] ?? 0,
      held: pool.held_by[at] ?? 0,
      reserve: pool.reserve[at] ?? 0,
      cap: pool.cap[at] ?? null,
      room: pool.headroom[at] ?? null,
      state: pool.state[at] ?? 'within',
      present: (pool.present[at] ?? 0) > 0 && code !== top,
    }))
    .filter((each) => each.present && (each.load > 0 || each.cap !== null || each.reserve > 0))
    .sort((one, other) => idle(other) - idle(one))
  return (
    <section aria-label="Room by account">
      <h2 className="sub">
        Room by account<span className="quiet small">, most unused first</span>
      </h2>
      <table className="ledger tight limits">
        <thead>
          <tr>
            <th>Account</th>
            <th className="fig">In use</th>
            <th className="fig">Reserved, unused</th>
            <th className="fig">Cap</th>
            <th className="fig">To cap</th>
            <th>
              <span className="visually-hidden">Drawn</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {rows.slice(0, SHOWN).map((row) => (
            <tr key={row.code}>
              <td>
                <AccountLink account={row.code}>{row.name}</AccountLink> <StateMark state={row.state} />
              </td>
              <td className="fig">
                <Link to={holders({ ...body, account: row.code })}>{shortUnits(row.used, body.per_unit)}</Link>
              </td>
              <td className="fig">{shortUnits(Math.max(0, row.held - row.used), body.per_unit)}</td>
              <td className="fig">{row.cap === null ? 'no cap' : shortUnits(row.cap, body.per_unit)}</td>
              <td className={row.cap !== null && row.load > row.cap ? 'fig over' : 'fig'}>
                {row.cap === null
                  ? '–'
                  : row.load > row.cap
                    ? `${shortUnits(row.load - row.cap, body.per_unit)} over`
                    : shortUnits(row.cap - row.load, body.per_unit)}
              </td>
              <td>
                <Gauge
                  width={150}
                  amounts={{
                    used: Math.min(row.used, row.load),
                    held: row.held,
                    reserve: row.reserve,
                    limit: row.cap,
                    reachable: row.load + Math.max(0, row.room ?? row.load * 0.15),
                  }}
                />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {rows.length === 0 && <p className="quiet">No account below has any.</p>}
      {(rows.length > SHOWN || count > accounts.code.length) && (
        <p className="small">
          <Link
            to={`/allocations?product=${encodeURIComponent(body.product)}&pools=${encodeURIComponent(body.product)}`}
          >
            All {whole(count)} accounts
          </Link>
        </p>
      )}
    </section>
  )
}

const idle = (row: { load: number; held: number; used: number; cap: number | null }) =>
  row.held - row.used + Math.max(0, (row.cap ?? row.load) - row.load)

/** The lots of so many pools are shown; the others are on their own screen. */
const POOLS = 20

function Lots({ product }: { product: string }) {
  const found = useQuery(poolsNow({ product, limit: POOLS })).data
  const pools = found?.rows ?? []
  if (!found || pools.length === 0) return null
  return (
    <section aria-label="Lots">
      <h2 className="sub">Lots</h2>
      <table className="ledger tight">
        <thead>
          <tr>
            <th>Order</th>
            <th className="fig">Quantity</th>
            <th>First day</th>
            <th>Last day</th>
            <th>Pool owner</th>
          </tr>
        </thead>
        <tbody>
          {pools.flatMap((pool) =>
            pool.lots.map((lot) => (
              <tr key={`${pool.owner} ${lot.reference} ${lot.first_day}`}>
                <td>
                  <Link to={`/pools?owner=${encodeURIComponent(pool.owner)}&product=${encodeURIComponent(product)}`}>
                    {lot.reference}
                  </Link>
                </td>
                <td className="fig">
                  {units(lot.quantity, pool.per_unit)} {unitName(pool.unit, lot.quantity / pool.per_unit)}
                </td>
                <td>{dayName(lot.first_day)}</td>
                <td>{lot.last_day ? dayName(lot.last_day) : 'open'}</td>
                <td>{pool.owner_name}</td>
              </tr>
            )),
          )}
        </tbody>
      </table>
      {found.total > pools.length && (
        <p className="small mb-0">
          <Link to={`/pools?find=${encodeURIComponent(product)}`}>All {whole(found.total)} pools</Link>
        </p>
      )}
    </section>
  )
}

function LeastUsed({ product }: { product: string }) {
  const found = useQuery(leastUsed(product)).data
  return (
    <section aria-label="Least used seats">
      <h2 className="sub">
        Least used seats{' '}
        <Link className="small ms-2" to={`/people?product=${encodeURIComponent(product)}&sort=last_seen`}>
          all holders
        </Link>
      </h2>
      <ul className="plain withnames">
        {found?.rows.map((each) => (
          <li key={each.username}>
            <Link to={`/people/${encodeURIComponent(each.username)}`}>{each.name}</Link>{' '}
            <span className="quiet">
              {each.account_name} ·{' '}
              {each.last_seen_at ? `last seen ${dayName(dayOf(each.last_seen_at))}` : 'never seen'}
            </span>
          </li>
        ))}
      </ul>
      {found?.rows.length === 0 && <p className="quiet">Nobody has a seat.</p>}
    </section>
  )
}

function WhoWaits({ product }: { product: string }) {
  const waiting = useQuery(seatQueue(8, product)).data
  return (
    <section aria-label="Waiting">
      <h2 className="sub">
        Waiting <span className="quiet small">{waiting?.total ? whole(waiting.total) : ''}</span>
      </h2>
      <ul className="plain withnames">
        {waiting?.rows.map((each) => (
          <li key={each.username}>
            <Link to={`/people/${encodeURIComponent(each.username)}`}>{each.name}</Link>{' '}
            <span className="quiet">
              {each.account_name} · since {shortDay(dayOf(each.since))}
            </span>
          </li>
        ))}
      </ul>
      {waiting?.total === 0 && <p className="quiet">Nobody waits for it.</p>}
      {(waiting?.total ?? 0) > 8 && (
        <Link className="small" to="/queue">
          all who wait
        </Link>
      )}
    </section>
  )
}
