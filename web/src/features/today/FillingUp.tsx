import { useState } from 'react'
import { Link } from 'react-router'
import { useCan, type Today } from '../../api/queries'
import { First } from '../../components/First'
import { dayName, daysBetween, shortDay } from '../../domain/months'
import { roundUnits, unitName } from '../../domain/units'
import { byClient, type Group } from './groups'

type Filling = Today['filling'][number]

const part = encodeURIComponent

const between = ({ day, soonest, latest }: Filling) =>
  soonest === latest
    ? `on ${shortDay(day)}`
    : latest === null
      ? `${shortDay(soonest)} at the soonest`
      : `between ${shortDay(soonest)} and ${dayName(latest)}`

/** Storage that is full before long at the pace at which it grows: of each client what is full first. */
export function FillingUp({ day }: { day: Today }) {
  if (!day.filling.length) return null
  return (
    <>
      <h2 className="section">
        Storage filling up<span>{day.filling.length}</span>
      </h2>
      <First
        of={byClient(day.filling)}
        show={(group) => <OfClient key={group.client} group={group} today={day.day} />}
      />
    </>
  )
}

function OfClient({ group, today }: { group: Group<Filling>; today: string }) {
  const [open, setOpen] = useState(false)
  const [first, ...others] = group.items
  const next = others[0]
  return (
    <>
      {first && (
        <Line each={first} today={today}>
          {next && !open && (
            <button type="button" className="btn btn-link btn-sm p-0" onClick={() => setOpen(true)}>
              {others.length} more of {group.name}, from {shortDay(next.day)}
            </button>
          )}
        </Line>
      )}
      {open && others.map((each) => <Line key={`${each.account} ${each.product}`} each={each} today={today} />)}
    </>
  )
}

function Line({ each, today, children }: { each: Filling; today: string; children?: React.ReactNode }) {
  const seesWho = useCan('people.see')
  const name = `${each.product_name}, ${each.name}`
  const left = daysBetween(today, each.day)
  return (
    <article className="item">
      <div className="when near">
        {shortDay(each.day)}
        <span>{left ? `in ${left} ${left === 1 ? 'day' : 'days'}` : 'today'}</span>
      </div>
      <div>
        <b>
          {each.name}: {each.product_name} fills up
        </b>
        <p>
          {roundUnits(each.stored, each.per_unit)} of {roundUnits(each.most, each.per_unit)} {unitName(each.unit, 2)}{' '}
          stored; at the present pace full {between(each)}.
        </p>
        {children}
      </div>
      <div className="acts">
        {seesWho && (
          <Link
            className="btn btn-outline-primary"
            to={`/storage?product=${part(each.product)}&account=${part(each.account)}`}
            aria-label={`Who stores it: ${name}`}
          >
            Who stores it
          </Link>
        )}
        <Link
          className="btn btn-outline-primary"
          to={`/allocations?account=${part(each.account)}&product=${part(each.product)}&pools=storage`}
          aria-label={`Ladder: ${name}`}
        >
          Ladder
        </Link>
      </div>
    </article>
  )
}
