import { useQuery, useQueryClient } from '@tanstack/react-query'
import { Fragment, useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import { useActs } from '../../commands/registry'
import { api, take } from '../../api/client'
import { me, today as todayQuery, type Today } from '../../api/queries'
import { money, sum } from '../../domain/money'
import { dayAfter, dayOf, daysBetween, longDay, monthWord, shortDay } from '../../domain/months'
import { roundUnits, tinyUnits, unitName, whole } from '../../domain/units'
import { First, FIRST } from '../../components/First'
import { holders } from '../../components/holders'
import { Empty, Trouble, Wait } from '../../components/States'
import { FirstSteps } from '../setup/FirstSteps'
import { WaitingToJoin } from '../people/WaitingToJoin'
import { RequestItem } from '../requests/RequestItem'
import { ClientGroups } from './ClientGroups'
import { FillingUp } from './FillingUp'
import { needsSomebody } from './count'

type Pressed = Today['pressed'][number]
interface OfProduct {
  unit: string
  per_unit: number
}

const of = (item: OfProduct, grains: number) =>
  `${roundUnits(grains, item.per_unit)} ${unitName(item.unit, grains / item.per_unit)}`
const cellAddress = (account: string, product: string, measure: string) =>
  `/allocations?account=${encodeURIComponent(account)}&product=${encodeURIComponent(product)}${measure === 'storage' ? '&pools=storage' : ''}`

/** What needs me? Each with the place where it is dealt with. */
export default function TodayScreen() {
  const found = useQuery(todayQuery)
  const [params, setParams] = useSearchParams()
  if (found.isError) return <Trouble page="Today" error={found.error} again={() => void found.refetch()} />
  if (!found.data) return <Wait what="the day" />
  const day = found.data
  const only = params.get('only') ?? 'all'
  const past = day.pressed.filter((each) => each.state !== 'near')
  const near = day.pressed.filter((each) => each.state === 'near')
  const urgent = day.endings.filter((each) => each.uncovered > 0)
  const pools = urgent.length + day.shortfalls.length
  const loose = looseNotices(day)
  const choose = (value: string) => setParams(value === 'all' ? {} : { only: value }, { replace: true })
  const shows = (part: string) => only === 'all' || only === part
  return (
    <>
      <div className="bar">
        <h1 data-title="Today">{longDay(day.day)}</h1>
        <span className="seg" role="group" aria-label="Show">
          {(
            [
              ['all', 'To do', needsSomebody(day)],
              ['requests', 'Requests', day.requests.length + day.joins.length + day.domains.length],
              ['notices', 'Notices', loose.length],
              ['pools', 'Renewals', pools],
              ['clients', 'Over cap', day.past_count],
              ['near', 'Near cap', day.near_count],
              ['idle', 'Unused stock', day.idle_count],
            ] as const
          ).map(([key, label, count]) => (
            <button type="button" key={key} aria-pressed={only === key} onClick={() => choose(key)}>
              {label}
              <em>{count}</em>
            </button>
          ))}
        </span>
      </div>
      <div className="today">
        <div role="region" aria-label="Needs attention" tabIndex={0}>
          {only === 'all' && <FirstSteps />}
          {day.pressed.length + day.endings.length + day.idle.length + day.shortfalls.length + day.filling.length ===
            0 && (
            <Empty title="Nothing needs you today">
              Every account is within its cap, and nothing bought ends in the next 90 days.
            </Empty>
          )}
          {shows('requests') && <Requests day={day} />}
          {(only === 'all' || only === 'requests') && <Joins day={day} />}
          {only === 'all' && <Troubles day={day} />}
          {only === 'notices' && <Notices notices={loose} />}
          {shows('pools') && <Pools day={day} />}
          {shows('pools') && <EndingAllocations day={day} />}
          {shows('pools') && <FillingUp day={day} />}
          {shows('clients') && <AtRisk title="Over cap" items={past} count={day.past_count} day={day} />}
          {only === 'near' && <AtRisk title="Near cap" items={near} count={day.near_count} day={day} />}
          {only === 'idle' && <Idle day={day} />}
        </div>
        <aside aria-label="Pools ahead">
          <Outlook day={day} />
        </aside>
      </div>
    </>
  )
}

function Requests({ day }: { day: Today }) {
  const [answered, setAnswered] = useState<number | null>(null)
  const first = day.requests.find((each) => each.to_answer)
  useActs(
    'Today',
    first ? [{ id: 'answer-next', name: 'Answer the first request', keys: 'a', run: () => setAnswered(first.id) }] : [],
  )
  if (!day.requests.length) return null
  return (
    <>
      <h2 className="section">
        Requests waiting<span>{day.requests.length}</span>
      </h2>
      {day.requests.map((each) => (
        <RequestItem request={each} open={each.id === answered} key={`${each.id} ${String(each.id === answered)}`} />
      ))}
    </>
  )
}

function Joins({ day }: { day: Today }) {
  if (!day.joins.length && !day.domains.length) return null
  return (
    <>
      <h2 className="section">
        Sign-up requests<span>{day.joins.length + day.domains.length}</span>
      </h2>
      {day.domains.map((each) => (
        <article className="item" key={`${each.domain} ${each.account_name}`}>
          <div className="when">
            domain<span>asked for</span>
          </div>
          <div>
            <b>
              {each.account_name} asks for {each.domain}
            </b>
            <p>Once approved, people with an address there can join {each.account_name}.</p>
          </div>
          <div className="acts">
            <Link className="btn btn-outline-primary" to="/domains">
              Open
            </Link>
          </div>
        </article>
      ))}
      {day.joins.map((each) => (
        <WaitingToJoin each={each} key={each.id} />
      ))}
    </>
  )
}

function Troubles({ day }: { day: Today }) {
  if (!day.held_drafts.length && !day.failed_jobs.length && !day.failed_policies.length) return null
  return (
    <>
      <h2 className="section">
        Failed<span>{day.held_drafts.length + day.failed_jobs.length + day.failed_policies.length}</span>
      </h2>
      {day.held_drafts.map((each) => (
        <article className="item first" key={each.id}>
          <div className="when over">held back</div>
          <div>
            <b>The draft “{each.name}” was not applied</b>
            <p>{each.reason}</p>
          </div>
          <div className="acts">
            <Link className="btn btn-outline-primary" to={`/drafts?draft=${each.id}`}>
              Open
            </Link>
          </div>
        </article>
      ))}
      {day.failed_policies.map((each) => (
        <article className="item first" key={each.name}>
          <div className="when over">not run</div>
          <div>
            <b>The policy “{each.name}” could not run by itself</b>
            <p>{each.trouble}</p>
          </div>
          <div className="acts">
            <Link className="btn btn-outline-primary" to="/idle">
              Open
            </Link>
          </div>
        </article>
      ))}
      {day.failed_jobs.map((each) => (
        <article className="item first" key={each.name}>
          <div className="when over">failed</div>
          <div>
            <b>The job “{each.name}” failed</b>
            <p>{each.trouble}; it is tried again by itself.</p>
          </div>
        </article>
      ))}
    </>
  )
}

/** Notices about a cell over or near its cap stand with it; those of what is mended are gone. */
function looseNotices(day: Today): Today['notices'] {
  const complete = day.past_count + day.near_count <= day.pressed.length
  return day.notices.filter(
    (each) =>
      !ABOUT_CAPS.has(each.kind) ||
      (!complete && !day.pressed.some((one) => one.account === each.account && one.product === each.product)),
  )
}
const ABOUT_CAPS = new Set(['grace', 'hold', 'threshold'])

function Notices({ notices }: { notices: Today['notices'] }) {
  const queries = useQueryClient()
  if (!notices.length)
    return (
      <Empty title="No notices">
        Warnings, deadlines and answers to requests stay here for a month and are also mailed.
      </Empty>
    )
  const putAway = async (ids: number[]) => {
    await take(api.POST('/api/notices/seen', { body: { ids } }))
    await queries.invalidateQueries({ queryKey: ['today'] })
  }
  return (
    <>
      <h2 className="section">
        Notices<span>{notices.length}</span>{' '}
        <button
          type="button"
          className="btn btn-link btn-sm p-0 ms-3"
          onClick={() => void putAway(notices.map((each) => each.id))}
        >
          Dismiss all
        </button>
      </h2>
      <First
        of={notices}
        show={(each) => (
          <article className="item" key={each.id}>
            <div className="when">
              {shortDay(dayOf(each.at))}
              <span>{each.kind}</span>
            </div>
            <div>
              <b>{each.subject}</b>
              <p style={{ whiteSpace: 'pre-line' }}>{each.text}</p>
            </div>
            <div className="acts">
              <Link
                className="btn btn-outline-primary"
                to={
                  each.product
                    ? `/allocations?account=${encodeURIComponent(each.account)}&product=${encodeURIComponent(each.product)}&pools=all`
                    : `/accounts/${encodeURIComponent(each.account)}`
                }
              >
                Open
              </Link>
              <button
                type="button"
                className="btn btn-outline-primary"
                aria-label={`Dismiss: ${each.subject}`}
                onClick={() => void putAway([each.id])}
              >
                Dismiss
              </button>
            </div>
          </article>
        )}
      />
    </>
  )
}

function Pools({ day }: { day: Today }) {
  const count = day.endings.length + day.shortfalls.length
  if (!count) return null
  return (
    <>
      <h2 className="section">
        Renewals<span>{count}</span>
      </h2>
      {day.shortfalls.map((each) => (
        <article className="item first" key={`${each.product} ${each.owner}`}>
          <div className="when over">now</div>
          <div>
            <b>
              {each.product_name} is short by {of(each, each.by)}
            </b>
            <p>More is held than was bought.</p>
          </div>
          <div className="acts">
            <Link className="btn btn-outline-primary" to={cellAddress(each.owner, each.product, each.measure)}>
              Holders
            </Link>
          </div>
        </article>
      ))}
      <First
        of={day.endings}
        show={(each) => (
          <article className={each.uncovered ? 'item first' : 'item'} key={`${each.product} ${each.owner} ${each.day}`}>
            <div className={each.uncovered ? 'when over' : 'when'}>
              {shortDay(each.day)}
              <span>in {daysBetween(day.day, each.day)} days</span>
            </div>
            <div>
              <b>
                {each.uncovered
                  ? `${each.product_name} falls short by ${of(each, each.uncovered)}`
                  : `${of(each, each.quantity)} of ${each.product_name} end`}
              </b>
              <p>
                {of(each, each.quantity)} end with {each.references.join(', ')}; {of(each, each.held)} are held now
                {each.held_then !== each.held && `, ${of(each, each.held_then)} then`}
                {each.uncovered ? '' : ', which the other lots cover'}.
              </p>
            </div>
            <div className="acts">
              <Link
                className="btn btn-outline-primary"
                to={`/pools?owner=${encodeURIComponent(each.owner)}&product=${encodeURIComponent(each.product)}${each.uncovered ? `&plan=${dayAfter(each.day)}` : ''}`}
              >
                Plan
              </Link>
              <Link className="btn btn-outline-primary" to={holders({ ...each, account: each.owner })}>
                Holders
              </Link>
            </div>
          </article>
        )}
      />
    </>
  )
}

/** Allocations with a last day that is near: what is in force until then, and what after it. */
function EndingAllocations({ day }: { day: Today }) {
  const ending = day.allocations_ending
  if (!ending.length) return null
  const terms = (each: Today['allocations_ending'][number], cap: number | null, reserve: number) =>
    [cap === null ? 'no cap' : `cap ${of(each, cap)}`, reserve > 0 && `reserve ${of(each, reserve)}`]
      .filter(Boolean)
      .join(', ')
  return (
    <>
      <h2 className="section">
        Allocations ending<span>{ending.length}</span>
      </h2>
      <First
        of={ending}
        show={(each) => (
          <article className="item" key={`${each.account} ${each.product} ${each.last_day}`}>
            <div className="when">
              {shortDay(each.last_day)}
              <span>
                {daysBetween(day.day, each.last_day) ? `in ${daysBetween(day.day, each.last_day)} days` : 'today'}
              </span>
            </div>
            <div>
              <b>
                {each.name}: {terms(each, each.cap, each.reserve)} of {each.product_name}
              </b>
              <p>
                {each.follows
                  ? `From ${shortDay(dayAfter(each.last_day))}: ${terms(each, each.then_cap, each.then_reserve)}.`
                  : 'No allocation follows.'}
              </p>
            </div>
            <div className="acts">
              <Link className="btn btn-outline-primary" to={cellAddress(each.account, each.product, each.measure)}>
                Open
              </Link>
            </div>
          </article>
        )}
      />
    </>
  )
}

/** Whoever is over or near a cap, by client; where there are more than came, the way to the rest. */
function AtRisk({ title, items, count, day }: { title: string; items: Pressed[]; count: number; day: Today }) {
  if (!items.length) return null
  return (
    <>
      <h2 className="section">
        {title}
        <span>{whole(count)}</span>
      </h2>
      <ClientGroups items={items} day={day.day} notices={day.notices} />
      {count > items.length && (
        <p className="quiet small px-3">
          The {items.length} most urgent are here;{' '}
          <Link to="/allocations?show=attention&pools=all">all {whole(count)} are in Allocations</Link>.
        </p>
      )}
    </>
  )
}

function Idle({ day }: { day: Today }) {
  if (!day.idle.length) return null
  return (
    <>
      <h2 className="section">
        Unused stock<span>{day.idle_count}</span>
      </h2>
      <First
        of={day.idle}
        show={(each) => (
          <article className="item" key={`${each.product} ${each.owner}`}>
            <div className="when">
              {money(sum([each.free_cost, each.promised_cost]))}
              <span>{each.currency} a month</span>
            </div>
            <div>
              <b>
                {each.product_name}: {of(each, each.free)} held by nobody
              </b>
              <p>
                {money(each.free_cost)} {each.currency} a month;{' '}
                {each.promised
                  ? `another ${of(each, each.promised)} reserved and unused, ${money(each.promised_cost)} ${each.currency}`
                  : 'everything reserved is in use'}
                . {of(each, each.supply)} bought.
              </p>
            </div>
            <div className="acts">
              <Link
                className="btn btn-outline-primary"
                to={`${cellAddress(each.owner, each.product, each.measure)}&show=idle`}
              >
                Holders of unused
              </Link>
            </div>
          </article>
        )}
      />
    </>
  )
}

/** Seats of people who have not been seen for long, and who waits for one. */
function Unseen() {
  const unseen = useQuery({
    queryKey: ['reclaim', 'unseen'],
    queryFn: () => take(api.GET('/api/reclaim/unseen')),
    staleTime: 300_000,
  }).data
  const waiting =
    useQuery({
      queryKey: ['entitlements', 'queue', 'count'],
      queryFn: () => take(api.GET('/api/entitlements/queue', { params: { query: { limit: 0 } } })),
      staleTime: 60_000,
    }).data?.total ?? 0
  if (!unseen?.seats && !waiting) return null
  return (
    <>
      <h2 className="mt-3">Idle seats</h2>
      <dl className="figures">
        {unseen && unseen.seats > 0 && (
          <>
            <dt>
              <Link to={`/people?seen=${unseen.days}&status=active`}>
                Of {whole(unseen.people)} people not seen for {unseen.days} days
              </Link>
            </dt>
            <dd>
              {whole(unseen.seats)} {unseen.seats === 1 ? 'seat' : 'seats'}
            </dd>
          </>
        )}
        {unseen?.cost.map((each) => [
          <dt key={each.currency}>Cost per month</dt>,
          <dd key={`${each.currency} figure`}>
            {money(each.amount)} {each.currency}
          </dd>,
        ])}
        {waiting > 0 && (
          <>
            <dt>
              <Link to="/queue">People on the waiting list</Link>
            </dt>
            <dd>{waiting}</dd>
          </>
        )}
      </dl>
      <p className="small mb-0">
        <Link to="/idle">Reclaim idle seats</Link>
      </p>
    </>
  )
}

function Outlook({ day }: { day: Today }) {
  const top = useQuery(me).data?.running.account
  const [every, setEvery] = useState(false)
  const months = day.outlook[0]?.months ?? []
  return (
    <>
      {months.length > 0 && (
        <>
          <h2>Free stock ahead</h2>
          <p className="quiet small mb-1">Not held, by month; storage in GB</p>
          <table className="outlook">
            <thead>
              <tr>
                <td style={{ background: 'none' }} />
                {months.map((month, place) => (
                  <th key={month} scope="col">
                    {place === 0 ? 'now' : monthWord(month).slice(0, 3)}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {(every ? day.outlook : day.outlook.slice(0, FIRST)).map((each) => (
                <tr key={`${each.product} ${each.owner}`}>
                  <th scope="row" title={`${each.product_name}, owned by ${each.owner_name}`}>
                    {each.product_name}
                    {each.owner === top ? '' : ` · ${each.owner_name}`}
                  </th>
                  {each.free.map((free, place) => (
                    <td key={months[place]} className={free < 0 ? 'short' : undefined}>
                      {tinyUnits(Math.abs(free), each.per_unit)}
                      {free < 0 && <span className="visually-hidden"> short</span>}
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
          {!every && day.outlook.length > FIRST && (
            <button type="button" className="btn btn-link btn-sm p-0" onClick={() => setEvery(true)}>
              Show {day.outlook.length - FIRST} more pools
            </button>
          )}
          {every && day.outlook_count > day.outlook.length && (
            <Link className="small" to="/pools">
              All {whole(day.outlook_count)} pools
            </Link>
          )}
          <p className="small">
            <span className="over" aria-hidden="true">
              ■
            </span>{' '}
            <span className="quiet">short, if nothing is renewed and use stays the same</span>
          </p>
        </>
      )}
      <Unseen />
      <h2 className="mt-3">Cost of unused stock</h2>
      <dl className="figures">
        {day.idle_costs.map(({ currency, free, promised }) => (
          <Fragment key={currency}>
            <dt>Unallocated, per month</dt>
            <dd>
              {money(free)} {currency}
            </dd>
            <dt>Reserved, unused</dt>
            <dd>
              {money(promised)} {currency}
            </dd>
          </Fragment>
        ))}
      </dl>
      {day.idle.length === 0 && <p className="quiet small">Everything bought is in use.</p>}
    </>
  )
}
