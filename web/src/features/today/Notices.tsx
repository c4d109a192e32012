import { useQueryClient } from '@tanstack/react-query'
import { Link } from 'react-router'
import { api, take } from '../../api/client'
import { type Today } from '../../api/queries'
import { dayOf, shortDay } from '../../domain/months'
import { First } from '../../components/First'
import { Empty } from '../../components/States'

/** What was to happen by itself and did not. */
export function Troubles({ day }: { day: Today }) {
  if (!day.held_drafts.length && !day.failed_jobs.length && !day.failed_policies.length) return null
  return (
    <>
      <h2 className="section">
        Failed<span>{day.held_drafts.length + day.failed_jobs.length + day.failed_policies.length}</span>
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
              Open
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
              Open
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

/** Notices about a cell over or near its cap stand with it; those of what is mended are gone. */
export function looseNotices(day: Today): Today['notices'] {
  const complete = day.past_count + day.near_count <= day.pressed.length
  return day.notices.filter(
    (each) =>
      !ABOUT_CAPS.has(each.kind) ||
      (!complete && !day.pressed.some((one) => one.account === each.account && one.product === each.product)),
  )
}
const ABOUT_CAPS = new Set(['grace', 'hold', 'threshold'])

export function Notices({ notices }: { notices: Today['notices'] }) {
  const queries = useQueryClient()
  if (!notices.length)
    return (
      <Empty title="No notices">
        Warnings, deadlines and answers to requests stay here for a month and are also mailed.
      </Empty>
    )
  const putAway = async (ids: number[]) => {
    await take(api.POST('/api/notices/seen', { body: { ids } }))
    await queries.invalidateQueries({ queryKey: ['today'] })
  }
  return (
    <>
      <h2 className="section">
        Notices<span>{notices.length}</span>{' '}
        <button
          type="button"
          className="btn btn-link btn-sm p-0 ms-3"
          onClick={() => void putAway(notices.map((each) => each.id))}
        >
          Dismiss all
        </button>
      </h2>
      <First
        of={notices}
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
                Open
              </Link>
              <button
                type="button"
                className="btn btn-outline-primary"
                aria-label={`Dismiss: ${each.subject}`}
                onClick={() => void putAway([each.id])}
              >
                Dismiss
              </button>
            </div>
          </article>
        )}
      />
    </>
  )
}
