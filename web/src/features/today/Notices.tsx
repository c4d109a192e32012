import { useInfiniteQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import { api, take } from '../../api/client'
import { notices as noticesQuery, type Today } from '../../api/queries'
import { useAction } from '../../api/useAction'
import { dayOf, shortDay } from '../../domain/months'
import { Empty, Trouble, Wait } from '../../components/States'
import { upTo } from './count'

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

/** Whether some who are past a cap or near it are not listed: notices about caps stand by themselves then. */
const withCaps = (day: Today) => day.past_count + day.near_count > day.pressed.length

/** The notices that stand by themselves, newest first, a page at a time. */
export function Notices({ day }: { day: Today }) {
  const act = useAction('today', 'notices')
  const caps = withCaps(day)
  const found = useInfiniteQuery(noticesQuery(caps))
  if (found.isError) return <Trouble page="Notices" error={found.error} again={() => void found.refetch()} />
  if (!found.data) return <Wait what="the notices" />
  const notices = found.data.pages.flatMap((page) => page.notices)
  const newest = notices[0]
  if (!newest)
    return (
      <Empty title="No notices">
        Warnings, deadlines and answers to requests stay here for a month and are also mailed.
      </Empty>
    )
  const putAway = (body: { ids: number[]; until?: number; caps: boolean }) =>
    void act.run(() => take(api.POST('/api/notices/seen', { body })))
  return (
    <>
      <h2 className="section">
        Notices<span>{upTo(day.notice_count)}</span>{' '}
        <button
          type="button"
          className="btn btn-link btn-sm p-0 ms-3"
          disabled={act.busy}
          onClick={() => putAway({ ids: [], until: newest.id, caps })}
        >
          Dismiss all
        </button>
      </h2>
      {act.trouble && (
        <p className="over px-3" role="alert">
          {act.trouble}
        </p>
      )}
      {notices.map((each) => (
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
              onClick={() => putAway({ ids: [each.id], caps })}
            >
              Dismiss
            </button>
          </div>
        </article>
      ))}
      {found.hasNextPage && (
        <p className="px-3 py-1 mb-0">
          <button
            type="button"
            className="btn btn-link btn-sm p-0"
            disabled={found.isFetchingNextPage}
            onClick={() => void found.fetchNextPage()}
          >
            Show older notices
          </button>
        </p>
      )}
    </>
  )
}
