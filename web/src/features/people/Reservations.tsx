import { useQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import { api, take } from '../../api/client'
import { useAction } from '../../api/useAction'
import { dayName, dayOf } from '../../domain/months'
import { seatsAside } from './queries'

/** Seats that are kept for named people: counted, and nobody else's. */
export function Reservations() {
  const found = useQuery(seatsAside)
  const { run, trouble } = useAction('people', 'entitlements', 'allocations', 'accounts', 'log')
  const act = async (what: 'assign' | 'cancel reservation', username: string, product: string) => {
    await run(async () => {
      const did = await take(
        api.POST('/api/people/seats', {
          body: { act: what, people: { find: '', usernames: [username] }, product, keep_seats: true },
        }),
      )
      if (did.could_not.length) throw new Error(did.could_not.map((each) => `${each.name} ${each.why}`).join(' '))
    })
  }
  if (!found.data?.length) return null
  return (
    <section aria-label="Reserved" className="px-3 pb-3 asidelist" tabIndex={0}>
      <h2 className="section px-0">
        Reserved seats<span>{found.data.length}</span>
      </h2>
      {trouble && (
        <p className="over" role="alert">
          {trouble}
        </p>
      )}
      <table className="ledger tight">
        <thead>
          <tr>
            <th>Product</th>
            <th>Person</th>
            <th>Account</th>
            <th>Since</th>
            <th>
              <span className="visually-hidden">Do</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {found.data.map((each) => (
            <tr key={`${each.product} ${each.username}`}>
              <td>{each.product_name}</td>
              <td>
                <Link to={`/people/${encodeURIComponent(each.username)}`}>{each.name}</Link>
                {each.status !== 'active' && <span className="quiet small"> {each.status}</span>}
              </td>
              <td>{each.account_name}</td>
              <td>{dayName(dayOf(each.since))}</td>
              <td className="fig">
                <button
                  type="button"
                  className="btn btn-link btn-sm p-0 me-3"
                  aria-label={`Assign to ${each.name}`}
                  onClick={() => void act('assign', each.username, each.product)}
                >
                  Assign
                </button>
                <button
                  type="button"
                  className="btn btn-link btn-sm p-0"
                  aria-label={`Cancel the reservation of ${each.name}`}
                  onClick={() => void act('cancel reservation', each.username, each.product)}
                >
                  Cancel reservation
                </button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  )
}
