import { useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useOutcome } from '../../components/Outcome'
import { api, messageOf, take, type Schemas } from '../../api/client'
import { dayOf, shortDay } from '../../domain/months'

/** Somebody who proved their address and waits, with the two ways out. */
export function WaitingToJoin({ each }: { each: Schemas['JoinWaiting'] }) {
  const queries = useQueryClient()
  const [trouble, setTrouble] = useState('')
  const outcome = useOutcome()
  const decide = async (letIn: boolean) => {
    try {
      await take(
        api.POST('/api/domains/waiting/{request_id}', {
          params: { path: { request_id: each.id } },
          body: { let_in: letIn },
        }),
      )
    } catch (error) {
      setTrouble(messageOf(error))
      return
    }
    outcome(letIn ? `${each.name} joined ${each.account_name}.` : `${each.name} declined for ${each.account_name}.`)
    await Promise.all(
      ['domains', 'today', 'people', 'accounts', 'log'].map((key) => queries.invalidateQueries({ queryKey: [key] })),
    )
  }
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
