import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import { api, take } from '../../api/client'
import { me, today as todayQuery, type Today } from '../../api/queries'
import { money, sum } from '../../domain/money'
import { dayOf, daysBetween, longDay, monthWord, shortDay } from '../../domain/months'
import { tinyUnits, units, unitName, whole } from '../../domain/units'
import { First, FIRST } from '../../parts/First'
import { Empty, StateMark, Trouble, Wait } from '../../parts/States'
import { FirstSteps } from '../setup/FirstSteps'
import { WaitingToJoin } from '../people/WaitingToJoin'
import { RequestItem } from '../requests/RequestItem'
import { needsSomebody } from './count'

type Pressed = Today['pressed'][number]
interface OfProduct {
  unit: string
  per_unit: number
}

const of = (item: OfProduct, grains: number) =>
  `${units(grains, item.per_unit)} ${unitName(item.unit, grains / item.per_unit)}`
const cellAddress = (account: string, product: string, measure: string) =>
  `/allocations?account=${encodeURIComponent(account)}&product=${encodeURIComponent(product)}${measure === 'storage' ? '&pools=storage' : ''}`

/** What needs me? Each with the place where it is dealt with. */
export default function TodayScreen() {
  const found = useQuery(todayQuery)
  const [params, setParams] = useSearchParams()
  if (found.isError) return <Trouble error={found.error} again={() => void found.refetch()} />
  if (!found.data) return <Wait what="the day" />
  const day = found.data
  const only = params.get('only') ?? 'all'
  const past = day.pressed.filter((each) => each.state !== 'near')
  const near = day.pressed.filter((each) => each.state === 'near')
  const urgent = day.endings.filter((each) => each.uncovered > 0)
  const pools = urgent.length + day.shortfalls.length
  const choose = (value: string) => setParams(value === 'all' ? {} : { only: value }, { replace: true })
  const shows = (part: string) => only === 'all' || only === part
  return (
    <>
      <div className="bar">
        <h1>{longDay(day.day)}</h1>
        <span className="seg" role="group" aria-label="Which things">
          {(
            [
              ['all', 'Everything', needsSomebody(day)],
              ['requests', 'Requests', day.requests.length + day.joins.length + day.domains.length],
              ['notices', 'Notices', day.notices.length],
              ['pools', 'Pools', pools],
              ['clients', 'Past a cap', day.past_count],
              ['near', 'Near a cap', day.near_count],
              ['idle', 'Idle stock', day.idle.length],
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
        <div role="region" aria-label="What needs somebody" tabIndex={0}>
          {only === 'all' && <FirstSteps />}
          {day.pressed.length + day.endings.length + day.idle.length + day.shortfalls.length === 0 && (
            <Empty title="Nothing needs you today">
              Every account is within its cap, and nothing bought ends in the next 90 days.
            </Empty>
          )}
          {shows('requests') && <Requests day={day} />}
          {(only === 'all' || only === 'requests') && <Joins day={day} />}
          {only === 'all' && <Troubles day={day} />}
          {only === 'notices' && <Notices day={day} />}
          {shows('pools') && <Pools day={day} />}
          {shows('clients') && <PressedList title="Past a cap" items={past} count={day.past_count} day={day.day} />}
          {shows('near') && <PressedList title="Near a cap" items={near} count={day.near_count} day={day.day} />}
          {shows('idle') && <Idle day={day} />}
        </div>
        <aside aria-label="The pools ahead">
          <Outlook day={day} />
        </aside>
      </div>
    </>
  )
}

function Requests({ day }: { day: Today }) {
  if (!day.requests.length) return null
  return (
    <>
      <h2 className="section">
        Requests waiting<span>{day.requests.length}</span>
      </h2>
      {day.requests.map((each) => (
        <RequestItem request={each} key={each.id} />
      ))}
    </>
  )
}

function Joins({ day }: { day: Today }) {
  if (!day.joins.length && !day.domains.length) return null
  return (
    <>
      <h2 className="section">
        Waiting to be let in<span>{day.joins.length + day.domains.length}</span>
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
              Look at it
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
        Did not go through<span>{day.held_drafts.length + day.failed_jobs.length + day.failed_policies.length}</span>
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
              Look at it
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
              Look at it
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

function Notices({ day }: { day: Today }) {
  const queries = useQueryClient()
  if (!day.notices.length)
    return (
      <Empty title="No notices">
        Warnings, deadlines, thresholds and answers to requests stand here for a month, and go out by mail.
      </Empty>
    )
  const putAway = async (ids: number[]) => {
    await take(api.POST('/api/notices/seen', { body: { ids } }))
    await queries.invalidateQueries({ queryKey: ['today'] })
  }
  return (
    <>
      <h2 className="section">
        Notices<span>{day.notices.length}</span>{' '}
        <button
          type="button"
          className="btn btn-link btn-sm p-0 ms-3"
          onClick={() => void putAway(day.notices.map((each) => each.id))}
        >
          Put all away
        </button>
      </h2>
      <First
        of={day.notices}
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
                Look
              </Link>
              <button
                type="button"
                className="btn btn-outline-primary"
                aria-label={`Put away: ${each.subject}`}
                onClick={() => void putAway([each.id])}
              >
                Put away
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
        Bought, and ending<span>{count}</span>
      </h2>
      {day.shortfalls.map((each) => (
        <article className="item first" key={`${each.product} ${each.owner}`}>
          <div className="when over">now</div>
          <div>
            <b>
              {each.product_name} is short by {of(each, each.by)}
            </b>
            <p>More is held than the lots give.</p>
          </div>
          <div className="acts">
            <Link className="btn btn-outline-primary" to={cellAddress(each.owner, each.product, each.measure)}>
              Who holds it
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
                {each.uncovered ? '' : ', which the other lots cover'}.
              </p>
            </div>
            <div className="acts">
              <Link
                className="btn btn-outline-primary"
                to={`/pools?owner=${encodeURIComponent(each.owner)}&product=${encodeURIComponent(each.product)}`}
              >
                Plan
              </Link>
              <Link className="btn btn-outline-primary" to={cellAddress(each.owner, each.product, each.measure)}>
                Who holds it
              </Link>
            </div>
          </article>
        )}
      />
    </>
  )
}

function PressedList({ title, items, count, day }: { title: string; items: Pressed[]; count: number; day: string }) {
  if (!items.length) return null
  return (
    <>
      <h2 className="section">
        {title}
        <span>{whole(count)}</span>
      </h2>
      <First
        of={items}
        show={(each) => <PressedItem key={`${each.account} ${each.product}`} item={each} day={day} />}
      />
      {count > items.length && (
        <p className="quiet small px-3">
          The {items.length} that press most are here;{' '}
          <Link to="/allocations?show=attention&pools=all">all {whole(count)} are in Allocations</Link>.
        </p>
      )}
    </>
  )
}

function PressedItem({ item, day }: { item: Pressed; day: string }) {
  const over = item.load - item.cap
  const percent = item.cap ? Math.round((item.load / item.cap) * 100) : null
  return (
    <article className="item">
      <div className={item.state === 'near' ? 'when near' : 'when over'}>
        {item.state === 'grace' && item.deadline
          ? shortDay(item.deadline)
          : item.state === 'restricted'
            ? 'on hold'
            : percent === null
              ? 'no cap'
              : `${percent} %`}
        <span>
          {item.state === 'grace' && item.deadline
            ? `${daysBetween(day, item.deadline)} days left`
            : item.state === 'restricted' && item.deadline
              ? `since ${shortDay(item.deadline)}`
              : 'of its cap'}
        </span>
      </div>
      <div>
        <b>
          <StateMark state={item.state} /> {item.name}{' '}
          {over > 0
            ? `is ${of(item, over)} over its cap of ${units(item.cap, item.per_unit)}`
            : `nears its cap of ${of(item, item.cap)}`}
        </b>
        <p>
          {item.product_name}; {of(item, item.load)} counted
          {item.state === 'grace' && '; after the deadline nothing new goes through, and the excess goes on hold'}
          {item.state === 'restricted' && '; its grace is over, nothing new goes through'}
          {item.state === 'over' && (item.hard ? '; nothing more goes through' : '; more still goes through')}
          {item.state === 'near' &&
            (item.headroom === null
              ? '; more goes through past it'
              : `; ${of(item, Math.max(0, item.headroom))} can still be had`)}
        </p>
      </div>
      <div className="acts">
        <Link className="btn btn-outline-primary" to={cellAddress(item.account, item.product, item.measure)}>
          Ladder
        </Link>
      </div>
    </article>
  )
}

function Idle({ day }: { day: Today }) {
  if (!day.idle.length) return null
  return (
    <>
      <h2 className="section">
        Idle stock<span>{day.idle.length}</span>
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
                  ? `another ${of(each, each.promised)} promised and not used, ${money(each.promised_cost)} ${each.currency}`
                  : 'everything promised is used'}
                . {of(each, each.supply)} bought.
              </p>
            </div>
            <div className="acts">
              <Link
                className="btn btn-outline-primary"
                to={`${cellAddress(each.owner, each.product, each.measure)}&show=idle`}
              >
                Who holds idle
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
      queryKey: ['entitlements', 'queue'],
      queryFn: () => take(api.GET('/api/entitlements/queue')),
      staleTime: 60_000,
    }).data?.length ?? 0
  if (!unseen?.seats && !waiting) return null
  return (
    <>
      <h2 className="mt-3">Seats nobody uses</h2>
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
          <dt key={each.currency}>What they cost, a month</dt>,
          <dd key={`${each.currency} figure`}>
            {money(each.amount)} {each.currency}
          </dd>,
        ])}
        {waiting > 0 && (
          <>
            <dt>
              <Link to="/queue">People waiting for a seat</Link>
            </dt>
            <dd>{waiting}</dd>
          </>
        )}
      </dl>
      <p className="small mb-0">
        <Link to="/idle">Take idle seats back</Link>
      </p>
    </>
  )
}

function Outlook({ day }: { day: Today }) {
  const top = useQuery(me).data?.running.account
  const [every, setEvery] = useState(false)
  const months = day.outlook[0]?.months ?? []
  const currencies = [...new Set(day.idle.map((each) => each.currency))]
  return (
    <>
      {months.length > 0 && (
        <>
          <h2>What is free, and when it ends</h2>
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
          <p className="small">
            <span className="over" aria-hidden="true">
              ■
            </span>{' '}
            <span className="quiet">short by so many, if nothing is renewed and what is held stays the same</span>
          </p>
        </>
      )}
      <Unseen />
      <h2 className="mt-3">Money in idle stock</h2>
      <dl className="figures">
        {currencies.map((currency) => {
          const mine = day.idle.filter((each) => each.currency === currency)
          return [
            <dt key={`${currency} free`}>Held by nobody, a month</dt>,
            <dd key={`${currency} free figure`}>
              {money(sum(mine.map((each) => each.free_cost)))} {currency}
            </dd>,
            <dt key={`${currency} promised`}>Promised and not used</dt>,
            <dd key={`${currency} promised figure`}>
              {money(sum(mine.map((each) => each.promised_cost)))} {currency}
            </dd>,
          ]
        })}
      </dl>
      {day.idle.length === 0 && <p className="quiet small">Everything bought is in use.</p>}
    </>
  )
}
