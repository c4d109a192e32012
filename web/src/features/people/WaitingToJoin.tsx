import { useAction } from '../../api/useAction'
import { useOutcome } from '../../components/Outcome'
import { api, take, type Schemas } from '../../api/client'
import { dayOf, shortDay } from '../../domain/months'

/** Somebody who proved their address and waits, with the two ways out. */
export function WaitingToJoin({ each }: { each: Schemas['JoinWaiting'] }) {
  const { run, trouble } = useAction('domains', 'today', 'people', 'accounts', 'log')
  const outcome = useOutcome()
  const decide = (letIn: boolean) =>
    run(async () => {
      await take(
        api.POST('/api/domains/waiting/{request_id}', {
          params: { path: { request_id: each.id } },
          body: { let_in: letIn },
        }),
      )
      outcome(letIn ? `${each.name} joined ${each.account_name}.` : `${each.name} declined for ${each.account_name}.`)
    })
  return (
    <article className="item">
      <div className="when">
        {shortDay(dayOf(each.since))}
        <span>asked</span>
      </div>
      <div>
        <b>
          {each.name} asks to join {each.account_name}
        </b>
        <p>{each.email}, confirmed by mail</p>
        {trouble && (
          <p className="over" role="alert">
            {trouble}
          </p>
        )}
      </div>
      <div className="acts">
        <button
          type="button"
          className="btn btn-outline-primary"
          aria-label={`Approve ${each.name}`}
          onClick={() => void decide(true)}
        >
          Approve
        </button>
        <button
          type="button"
          className="btn btn-outline-primary"
          aria-label={`Decline ${each.name}`}
          onClick={() => void decide(false)}
        >
          Decline
        </button>
      </div>
    </article>
  )
}
