import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button } from 'react-bootstrap'
import { Link } from 'react-router'
import { me, useCan, type Today } from '../../api/queries'
import { dayOf, daysBetween, shortDay } from '../../domain/months'
import { roundUnits, unitName } from '../../domain/units'
import { First } from '../../components/First'
import { holders } from '../../components/holders'
import { StateMark } from '../../components/States'
import { byClient, firstOf, type Group, type Pressed } from './groups'
import { useRaise } from './useRaise'

type Notice = Today['notices'][number]

const part = encodeURIComponent

/** What is over a cap or near it, client by client, each with the way out in place. */
export function ClientGroups({ items, day, notices }: { items: Pressed[]; day: string; notices: Notice[] }) {
  return (
    <>
      {
        <First
          of={byClient(items)}
          show={(each) => <OneClient key={each.client} group={each} day={day} notices={notices} />}
        />
      }
    </>
  )
}

function OneClient({ group, day, notices }: { group: Group; day: string; notices: Notice[] }) {
  const [open, setOpen] = useState(false)
  const raise = useRaise()
  const changes = useCan('drafts.change')
  const shown = open ? group.items : firstOf(group.items, day)
  const over = group.items.filter((each) => each.state !== 'near')
  const folded = group.items.length - shown.length
  return (
    <section className="clientgroup" aria-label={group.name}>
      <div className="clienthead">
        <h3>
          <Link to={`/accounts/${part(group.client)}`}>{group.name}</Link>
        </h3>
        <span className="quiet small">
          {over.length > 0 && `${over.length} over cap`}
          {over.length > 0 && over.length < group.items.length && ', '}
          {over.length < group.items.length && `${group.items.length - over.length} near cap`}
        </span>
        <span className="grow" />
        {changes && over.length > 1 && (
          <Button size="sm" variant="outline-primary" onClick={() => void raise(over)}>
            Raise all {over.length} to use
          </Button>
        )}
      </div>
      {shown.map((each) => (
        <Line key={`${each.account} ${each.product}`} item={each} day={day} notices={notices} />
      ))}
      {folded > 0 && (
        <button type="button" className="btn btn-link btn-sm clientmore" onClick={() => setOpen(true)}>
          Show {folded} more of {group.name}
        </button>
      )}
    </section>
  )
}

function Line({ item, day, notices }: { item: Pressed; day: string; notices: Notice[] }) {
  const raise = useRaise()
  const changes = useCan('drafts.change')
  const own = useQuery(me).data?.running
  const over = item.load - item.cap
  const of = (grains: number) => `${roundUnits(grains, item.per_unit)} ${unitName(item.unit, grains / item.per_unit)}`
  const about = notices.filter((each) => each.account === item.account && each.product === item.product)
  const asks = item.away === 0 && own?.kind !== 'operator'
  const where = item.account === item.client ? '' : item.name
  const name = `${item.product_name}${where && `, ${where}`}`
  return (
    <article className="item line">
      <div className={item.state === 'near' ? 'when near' : 'when over'}>
        {item.state === 'grace' && item.deadline
          ? shortDay(item.deadline)
          : item.state === 'restricted'
            ? 'on hold'
            : item.cap
              ? `${Math.round((item.load / item.cap) * 100)} %`
              : 'no cap'}
        <span>
          {item.state === 'grace' && item.deadline
            ? `${daysBetween(day, item.deadline)} days left`
            : item.state === 'restricted' && item.deadline
              ? `since ${shortDay(item.deadline)}`
              : 'of cap'}
        </span>
      </div>
      <div>
        <div className="what">
          <b>
            <StateMark state={item.state} /> {item.product_name}
          </b>
          {where && <span> · {where}</span>}
        </div>
        <p>
          {over > 0
            ? `${of(over)} over the cap of ${roundUnits(item.cap, item.per_unit)}`
            : `${of(item.load)} of ${roundUnits(item.cap, item.per_unit)}`}
          {item.state === 'grace' && '; the excess goes on hold after the deadline'}
          {item.state === 'restricted' && '; the excess is on hold'}
          {item.state === 'over' && (item.hard ? '; no more can be assigned' : '; more can be assigned')}
          {item.state === 'near' &&
            item.headroom !== null &&
            `; ${of(Math.max(0, item.headroom))} more can be assigned`}
        </p>
        {about.length > 0 && (
          <details className="small">
            <summary>
              {about.length} {about.length === 1 ? 'notice' : 'notices'}
            </summary>
            {about.map((each) => (
              <p key={each.id}>
                <span className="quiet">{shortDay(dayOf(each.at))}</span> {each.subject}
              </p>
            ))}
          </details>
        )}
      </div>
      <div className="acts">
        {asks ? (
          <Link
            className="btn btn-outline-primary"
            to={`/accounts/${part(item.account)}`}
            aria-label={`Request more: ${name}`}
          >
            Request more
          </Link>
        ) : (
          changes &&
          over > 0 && (
            <Button
              variant="outline-primary"
              aria-label={`Raise to ${roundUnits(item.load, item.per_unit)}: ${name}`}
              onClick={() => void raise([item])}
            >
              Raise to {roundUnits(item.load, item.per_unit)}
            </Button>
          )
        )}
        <Link className="btn btn-outline-primary" to={holders(item)} aria-label={`Holders: ${name}`}>
          Holders
        </Link>
        <Link
          className="btn btn-outline-primary"
          to={`/allocations?account=${part(item.account)}&product=${part(item.product)}&pools=${item.measure === 'storage' ? 'storage' : 'all'}`}
          aria-label={`Ladder: ${name}`}
        >
          Ladder
        </Link>
      </div>
    </article>
  )
}
