import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { useOutcome } from '../../components/Outcome'
import { Button, Form } from 'react-bootstrap'
import { api, take } from '../../api/client'
import { useAction } from '../../api/useAction'
import { me, requestEffect, type RequestBody } from '../../api/queries'
import { dayName, dayOf } from '../../domain/months'
import { parseUnits, units, unitName } from '../../domain/units'
import { EffectPanel } from '../drafts/EffectPanel'
import { useNames } from '../drafts/names'
import { BudgetNote } from './BudgetNote'

const STATES: Record<string, string> = {
  waiting: 'waiting',
  granted: 'granted',
  refused: 'refused',
  withdrawn: 'taken back',
}

function amountOf(request: RequestBody, grains: number): string {
  return `${units(Math.abs(grains), request.per_unit)} ${unitName(request.unit, Math.abs(grains) / request.per_unit)}`
}

/** One request: what is asked and why, its steps, and for whoever answers: what granting would do, and the answers. */
export function RequestItem({ request, open = false }: { request: RequestBody; open?: boolean }) {
  const [answering, setAnswering] = useState(open)
  return (
    <article className="item request">
      <div className={request.state === 'waiting' ? 'when near' : 'when'}>
        {STATES[request.state] ?? request.state}
        <span>{request.wish_day ? `by ${dayName(request.wish_day)}` : dayName(dayOf(request.asked_at))}</span>
      </div>
      <div>
        <b>
          {request.name} {request.amount > 0 ? 'asks for' : 'offers back'} {amountOf(request, request.amount)} of{' '}
          {request.product_name}
          {request.as_what === 'reserve' && ', reserved'}
          {request.last_day && `, until ${dayName(request.last_day)}`}
        </b>
        <p>
          “{request.reason}” {request.asked_by}
          {request.granted !== null &&
            request.granted !== request.amount &&
            `; ${amountOf(request, request.granted)} granted`}
        </p>
        {request.steps.length > 1 && (
          <ol className="steps">
            {request.steps.slice(1).map((step) => (
              <li key={step.at}>
                <b>{step.what}</b> by {step.by}, {dayName(dayOf(step.at))}
                {step.text && `: ${step.text}`}
              </li>
            ))}
          </ol>
        )}
        {answering && request.to_answer && (
          <BudgetNote
            account={request.account}
            product={request.product}
            more={Math.max(0, request.amount) / request.per_unit}
          />
        )}
        {answering && request.to_answer && <Answer request={request} />}
      </div>
      <div className="acts">
        {request.to_answer && !answering && (
          <Button variant="outline-primary" onClick={() => setAnswering(true)}>
            Answer
          </Button>
        )}
        {request.to_withdraw && <Withdraw request={request} />}
      </div>
    </article>
  )
}

function useAnswer(request: RequestBody) {
  const queries = useQueryClient()
  const { run: act, trouble } = useAction()
  const path = { params: { path: { request_id: request.id } } }
  const outcome = useOutcome()
  const run = async (work: (path: { params: { path: { request_id: number } } }) => Promise<unknown>, done: string) => {
    await act(async () => {
      await work(path)
      outcome(`${done}: ${amountOf(request, request.amount)} of ${request.product_name}, ${request.name}.`)
      // What an answer would do is not asked again once it is given.
      await queries.invalidateQueries({
        predicate: ({ queryKey: [key, of] }) =>
          ['requests', 'today', 'allocations', 'log', 'accounts'].includes(String(key)) && of !== 'effect',
      })
    })
  }
  return { trouble, run }
}

function Withdraw({ request }: { request: RequestBody }) {
  const { trouble, run } = useAnswer(request)
  return (
    <>
      {trouble && (
        <span className="over small" role="alert">
          {trouble}
        </span>
      )}
      <Button
        variant="outline-primary"
        onClick={() =>
          void run((path) => take(api.POST('/api/requests/{request_id}/withdraw', path)), 'Request withdrawn')
        }
      >
        Withdraw
      </Button>
    </>
  )
}

function Answer({ request }: { request: RequestBody }) {
  const { trouble, run } = useAnswer(request)
  const names = useNames()
  const [text, setText] = useState('')
  const [typed, setTyped] = useState(units(Math.abs(request.amount), request.per_unit))
  const parsed = parseUnits(typed, request.per_unit)
  const part = parsed === null ? null : request.amount > 0 ? parsed : -parsed
  const effect = useQuery({ ...requestEffect(request.id, part ?? 0), enabled: part !== null && part !== 0 })
  const whole = part === request.amount
  const may = effect.data?.may_apply === true && !effect.isError
  const id = `request-${request.id}`
  const above = useQuery(me).data?.running.kind !== 'operator'
  return (
    <div className="answer">
      {effect.isError ? (
        <p className="over" role="alert">
          {effect.error.message}
        </p>
      ) : (
        effect.data && <EffectPanel effect={effect.data} names={names} />
      )}
      {effect.data && !may && (
        <p className="over" role="alert">
          Granting this breaks a limit:{' '}
          {effect.data.breaches.find((each) => each.hard && each.day === null && ['new', 'worse'].includes(each.label))
            ?.sentence ??
            effect.data.faults[0]?.detail ??
            'one above your branch.'}
        </p>
      )}
      <Form
        className="d-flex gap-2 align-items-end flex-wrap"
        onSubmit={(event) => {
          event.preventDefault()
          if (!may || part === null) return
          void run(
            (path) => take(api.POST('/api/requests/{request_id}/grant', { ...path, body: { part, text } })),
            'Approved',
          )
        }}
      >
        <Form.Group controlId={`${id}-part`}>
          <Form.Label>Approve, {unitName(request.unit, 2)}</Form.Label>
          <Form.Control
            value={typed}
            inputMode="decimal"
            autoFocus
            isInvalid={part === null}
            style={{ width: 90 }}
            onChange={(event) => setTyped(event.target.value)}
          />
        </Form.Group>
        <Form.Group controlId={`${id}-text`} className="grow">
          <Form.Label>Comment</Form.Label>
          <Form.Control value={text} maxLength={2000} onChange={(event) => setText(event.target.value)} />
        </Form.Group>
        <Button type="submit" disabled={!may || part === null}>
          {whole ? 'Approve' : 'Approve in part'}
        </Button>
        <Button
          variant="outline-primary"
          onClick={() =>
            void run(
              (path) => take(api.POST('/api/requests/{request_id}/refuse', { ...path, body: { reason: text } })),
              'Declined',
            )
          }
        >
          Decline
        </Button>
        {above && request.steps.at(-1)?.what !== 'passed up' && (
          <Button
            variant="outline-primary"
            onClick={() =>
              void run(
                (path) => take(api.POST('/api/requests/{request_id}/pass-up', { ...path, body: { reason: text } })),
                'Escalated',
              )
            }
          >
            Escalate
          </Button>
        )}
      </Form>
      {trouble && (
        <p className="over mt-2" role="alert">
          {trouble}
        </p>
      )}
    </div>
  )
}
