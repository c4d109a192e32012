import { useQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import { productsInSight, useCan } from '../../api/queries'
import { dayName, dayOf } from '../../domain/months'
import { devicesOf, itemsOf, sessionsOf } from './queries'

/** What somebody uses besides seats: devices, sessions under way and numbers. */
export function OfPerson({ username }: { username: string }) {
  const sees = useCan('devices.see')
  const devices = useQuery({ ...devicesOf(username), enabled: sees }).data?.rows ?? []
  const live = useQuery({ ...sessionsOf(username), enabled: sees }).data?.rows ?? []
  const kinds = [
    ...new Set(
      useQuery(productsInSight)
        .data?.filter((each) => sees && each.measure === 'item')
        .map((each) => each.product),
    ),
  ]
  return (
    <>
      {devices.length > 0 && (
        <section aria-label="Devices">
          <h2 className="sub">Devices</h2>
          <ul className="plain">
            {devices.map((each) => (
              <li key={`${each.product} ${each.machine}`}>
                <Link to={`/devices?find=${encodeURIComponent(each.machine)}`}>{each.machine}</Link>{' '}
                <span className="quiet small">
                  {each.product_name}
                  {each.on_hold && ', on hold'}
                </span>
              </li>
            ))}
          </ul>
        </section>
      )}
      {live.length > 0 && (
        <section aria-label="Sessions">
          <h2 className="sub">Sessions</h2>
          <ul className="plain">
            {live.map((each) => (
              <li key={each.id}>
                {each.product_name}{' '}
                <span className="quiet small">
                  on {each.machine}
                  {each.offline_until
                    ? `, offline until ${dayName(dayOf(each.offline_until))}`
                    : each.ends_at
                      ? ', told to save'
                      : ''}
                </span>
              </li>
            ))}
          </ul>
        </section>
      )}
      {kinds.map((product) => (
        <Numbers product={product} username={username} key={product} />
      ))}
    </>
  )
}

function Numbers({ product, username }: { product: string; username: string }) {
  const rows = useQuery(itemsOf(product, username)).data?.rows ?? []
  if (rows.length === 0) return null
  return (
    <section aria-label="Numbers">
      <h2 className="sub">Numbers</h2>
      <ul className="plain">
        {rows.map((each) => (
          <li key={each.number}>
            {each.number} <span className="quiet small">{each.address}</span>
          </li>
        ))}
      </ul>
    </section>
  )
}
