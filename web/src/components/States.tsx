import { Button } from 'react-bootstrap'
import { Link } from 'react-router'
import { ApiError } from '../api/client'

/** One panel for what went wrong: what was asked, what answered, what to do; in place of a whole `page`, with its title. */
export function Trouble({ error, again, page }: { error: unknown; again?: () => void; page?: string }) {
  const known = error instanceof ApiError
  const title = known ? (error.body.title ?? 'Something went wrong') : 'Something went wrong'
  const panel = (
    <div className="trouble" role="alert">
      <b>{title}.</b> {error instanceof Error ? error.message : String(error)}
      {known && error.status >= 500 && (
        <span className="quiet small">
          {' '}
          ({error.asked}, {error.status})
        </span>
      )}
      {again && (
        <Button size="sm" variant="outline-primary" className="ms-2" onClick={again}>
          Try again
        </Button>
      )}
    </div>
  )
  return page === undefined ? (
    panel
  ) : (
    <>
      <div className="bar">
        <h1>{page}</h1>
      </div>
      {panel}
    </>
  )
}

/** Shown while something is fetched for the first time. */
export function Wait({ what }: { what: string }) {
  return (
    <div className="wait" role="status">
      Loading {what}…
    </div>
  )
}

/** An empty screen that says what to do first. */
export function Empty({ title, children }: { title: string; children?: React.ReactNode }) {
  return (
    <div className="empty">
      <b>{title}</b>
      {children}
    </div>
  )
}

/** What an address shows that leads nowhere. */
export function NoSuchPage({ path, home }: { path: string; home: string }) {
  return (
    <>
      <div className="bar">
        <h1>No such page</h1>
      </div>
      <Empty title={`Nothing is at ${path}`}>
        The address may be mistyped, or your role may not open it.{' '}
        <Link to={home} className="text-decoration-underline">
          Go to the first page
        </Link>
        , or press Ctrl K to find what you want.
      </Empty>
    </>
  )
}

/** A state by shape and word, as well as by colour. */
export function StateMark({ state }: { state: string }) {
  if (state === 'within') return null
  const [shape, tone] = { near: ['△', 'near'], over: ['▲', 'over'], grace: ['◆', 'over'], restricted: ['■', 'over'] }[
    state
  ] ?? ['', '']
  return (
    <span className={tone} aria-hidden="true">
      {shape}
    </span>
  )
}
