import { useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { api, take, type Schemas } from '../../api/client'
import { dayOf, shortDay } from '../../domain/months'

/** Somebody who proved their address and waits, with the two ways out. */
export function WaitingToJoin({ each }: { each: Schemas['JoinWaiting'] }) {
  const queries = useQueryClient()
  const [trouble, setTrouble] = useState('')
  const decide = async (letIn: boolean) => {
    try {
      await take(
        api.POST('/api/domains/waiting/{request_id}', {
          params: { path: { request_id: each.id } },
          body: { let_in: letIn },
        }),
      )
    } catch (error) {
      setTrouble(error instanceof Error ? error.message : 'That did not work.')
      return
    }
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
        <p>{each.email}, proven by a link</p>
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
          aria-label={`Let ${each.name} in`}
          onClick={() => void decide(true)}
        >
          Let in
        </button>
        <button
          type="button"
          className="btn btn-outline-primary"
          aria-label={`Do not let ${each.name} in`}
          onClick={() => void decide(false)}
        >
          Not
        </button>
      </div>
    </article>
  )
}
