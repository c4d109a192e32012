import { Link } from 'react-router'
import { useCan, type Today } from '../../api/queries'
import { First } from '../../components/First'
import { dayName, daysBetween, shortDay } from '../../domain/months'
import { roundUnits, unitName } from '../../domain/units'

const part = encodeURIComponent

const between = ({ day, soonest, latest }: Today['filling'][number]) =>
  soonest === latest
    ? `on ${shortDay(day)}`
    : latest === null
      ? `${shortDay(soonest)} at the soonest`
      : `between ${shortDay(soonest)} and ${dayName(latest)}`

/** Storage that is full before long at the pace at which it grows. */
export function FillingUp({ day }: { day: Today }) {
  const seesWho = useCan('people.see')
  if (!day.filling.length) return null
  return (
    <>
      <h2 className="section">
        Storage filling up<span>{day.filling.length}</span>
      </h2>
      <First
        of={day.filling}
        show={(each) => {
          const name = `${each.product_name}, ${each.name}`
          const left = daysBetween(day.day, each.day)
          return (
            <article className="item" key={`${each.account} ${each.product}`}>
              <div className="when near">
                {shortDay(each.day)}
                <span>{left ? `in ${left} ${left === 1 ? 'day' : 'days'}` : 'today'}</span>
              </div>
              <div>
                <b>
                  {each.name}: {each.product_name} fills up
                </b>
                <p>
                  {roundUnits(each.stored, each.per_unit)} of {roundUnits(each.most, each.per_unit)}{' '}
                  {unitName(each.unit, 2)} stored; at the present pace full {between(each)}.
                </p>
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
        }}
      />
    </>
  )
}
