import { Button } from 'react-bootstrap'
import { Link } from 'react-router'
import { api, take } from '../../api/client'
import { useCan } from '../../api/queries'
import { useAction } from '../../api/useAction'
import type { PersonBody } from './queries'

/** What somebody runs, in which role, and the ways to change it. */
export function Runs({ body }: { body: PersonBody }) {
  const gives = useCan('delegations.give') && body.email && body.status !== 'removed'
  if (body.runs.length === 0 && !gives) return null
  const given = new URLSearchParams({ email: body.email ?? '', name: body.name, account: body.account })
  return (
    <section aria-label="Runs">
      <h2 className="sub">Runs</h2>
      {body.runs.length > 0 ? (
        <ul className="plain">
          {body.runs.map((each) => (
            <li key={`${each.name} ${each.role}`}>
              {each.name} <span className="quiet small">{each.role}</span>
            </li>
          ))}
        </ul>
      ) : (
        <p className="quiet mb-1">No account.</p>
      )}
      {gives && (
        <p className="mb-1">
          {body.runs.length > 0 && (
            <Link className="me-3" to={`/delegations?${new URLSearchParams({ find: body.email ?? '' }).toString()}`}>
              Change role
            </Link>
          )}
          <Link to={`/delegations?${given.toString()}`}>New delegation…</Link>
        </p>
      )}
      {body.runs.length > 0 && <Unlock body={body} />}
    </section>
  )
}

/** Lets somebody try again whose address was tried too often. */
function Unlock({ body }: { body: PersonBody }) {
  const may = useCan('people.invite')
  const { run, said } = useAction()
  const unlock = () =>
    run(async () => {
      await take(api.POST('/api/people/{username}/unlock', { params: { path: { username: body.username } } }))
      return `${body.name} can try again to sign in.`
    })
  if (!may || !body.email) return null
  return (
    <>
      <Button size="sm" variant="outline-primary" onClick={() => void unlock()}>
        Unlock their sign-in
      </Button>
      <span className="quiet small" role="status">
        {' '}
        {said?.text}
      </span>
    </>
  )
}
