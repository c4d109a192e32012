import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Link, useSearchParams } from 'react-router'
import { useActs } from '../../commands/registry'
import { today as todayQuery, type Today } from '../../api/queries'
import { dayAfter, daysBetween, longDay, shortDay } from '../../domain/months'
import { whole } from '../../domain/units'
import { First } from '../../components/First'
import { holders } from '../../components/holders'
import { Empty, Trouble, Wait } from '../../components/States'
import { FirstSteps } from '../setup/FirstSteps'
import { WaitingToJoin } from '../people/WaitingToJoin'
import { RequestItem } from '../requests/RequestItem'
import { ClientGroups } from './ClientGroups'
import { FillingUp } from './FillingUp'
import { needsSomebody, upTo } from './count'
import { Idle, Outlook } from './Ahead'
import { Troubles, Notices } from './Notices'
import { cellAddress, of, type Pressed } from './words'

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
              ['notices', 'Notices', upTo(day.notice_count)],
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
          {only === 'notices' && <Notices day={day} />}
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
