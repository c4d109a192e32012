import { useQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import { api, take } from '../../api/client'
import { me, own } from '../../api/queries'

export const firstSteps = {
  queryKey: ['first-steps'],
  queryFn: () => take(api.GET('/api/first-steps')),
  staleTime: 60_000,
}

/** What is worth doing first in a new installation; gone once all of it is done. */
export function FirstSteps() {
  const who = useQuery(me).data
  const found = useQuery({ ...firstSteps, enabled: who?.running.kind === 'operator' }).data
  const mine = useQuery({ ...own, enabled: who?.running.kind === 'operator' })
  if (!who || !found) return null
  const account = `/accounts/${encodeURIComponent(who.running.account)}`
  const steps: [boolean, string, string, React.ReactNode][] = [
    [found.products, '/pools?new=product', 'Add a product', 'What you buy and hand down: seats, devices, storage.'],
    [found.purchases, '/pools', 'Buy the first lot', 'Quantity, term and price; that makes the pool.'],
    [found.clients, `${account}?new=account`, 'Add the first client', 'One, or a list; departments and resellers too.'],
    [
      found.delegates,
      '/people?new=person',
      'Delegate the client',
      'Add a person as admin; they get a link to set a password.',
    ],
    [found.people, '/people?new=person', 'Add people', 'One by one, or from a table.'],
    [found.seats, '/people', 'Assign the first seat', 'Choose people, then Assign.'],
  ]
  const next = steps.find(([done]) => !done)
  if (!next) return null
  // Offered beside the rest; nothing waits for it.
  steps.push([
    mine.data?.recovery_codes != null,
    '/own',
    'Turn on a second factor',
    'Sign-in then asks for a code of your phone as well.',
  ])
  return (
    <section aria-label="First steps">
      <div className="section">First steps</div>
      <ol className="firststeps">
        {steps.map(([done, to, title, about]) => (
          <li key={title} className={done ? 'quiet' : undefined}>
            <span aria-hidden="true">{done ? '✓' : '○'}</span>
            <span>
              {done ? (
                <s>{title}</s>
              ) : (
                <Link to={to} className={title === next[2] ? 'fw-bold' : undefined}>
                  {title}
                </Link>
              )}
              {done && <span className="visually-hidden"> (done)</span>}
            </span>
            <span className="quiet small">{about}</span>
          </li>
        ))}
      </ol>
      {!found.mail && (
        <p className="near px-3 py-2 mb-0">
          No mail server is configured, so invitations and links wait. Set FAIR_LADLE_SMTP where the server is started.
        </p>
      )}
      {!found.clients && (
        <div className="px-3 py-2">
          <Link to="/intake">Or import an intake</Link>
          <div className="quiet small">
            Products, lots, accounts, allocations, people and what they use, from a workbook or a zip of tables.
          </div>
        </div>
      )}
    </section>
  )
}
