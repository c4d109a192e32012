import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { requestEffect, type RequestBody } from '../../api/queries'
import { dayName, dayOf } from '../../domain/months'
import { parseUnits, units, unitName } from '../../domain/units'
import { EffectPanel } from '../drafts/EffectPanel'
import { useNames } from '../drafts/names'

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
          {request.as_what === 'reserve' && ', promised'}
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
  const [trouble, setTrouble] = useState('')
  const path = { params: { path: { request_id: request.id } } }
  const run = async (work: (path: { params: { path: { request_id: number } } }) => Promise<unknown>) => {
    try {
      setTrouble('')
      await work(path)
      // What an answer would do is not asked again once it is given.
      await queries.invalidateQueries({
        predicate: ({ queryKey: [key, of] }) =>
          ['requests', 'today', 'allocations', 'log', 'accounts'].includes(String(key)) && of !== 'effect',
      })
    } catch (error) {
      setTrouble(error instanceof Error ? error.message : 'That did not work.')
    }
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
        onClick={() => void run((path) => take(api.POST('/api/requests/{request_id}/withdraw', path)))}
      >
        Take back
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
          Granting it would break a limit:{' '}
          {effect.data.breaches.find((each) => each.hard && each.day === null && ['new', 'worse'].includes(each.label))
            ?.sentence ??
            effect.data.faults[0]?.detail ??
            'one above your branch.'}
        </p>
      )}
      <div className="d-flex gap-2 align-items-end flex-wrap">
        <Form.Group controlId={`${id}-part`}>
          <Form.Label>Grant, {unitName(request.unit, 2)}</Form.Label>
          <Form.Control
            value={typed}
            inputMode="decimal"
            isInvalid={part === null}
            style={{ width: 90 }}
            onChange={(event) => setTyped(event.target.value)}
          />
        </Form.Group>
        <Form.Group controlId={`${id}-text`} className="grow">
          <Form.Label>A word, or the reason</Form.Label>
          <Form.Control value={text} maxLength={2000} onChange={(event) => setText(event.target.value)} />
        </Form.Group>
        <Button
          disabled={!may || part === null}
          onClick={() =>
            void run((path) => take(api.POST('/api/requests/{request_id}/grant', { ...path, body: { part, text } })))
          }
        >
          {whole ? 'Grant' : 'Grant in part'}
        </Button>
        <Button
          variant="outline-primary"
          onClick={() =>
            void run((path) => take(api.POST('/api/requests/{request_id}/refuse', { ...path, body: { reason: text } })))
          }
        >
          Refuse
        </Button>
        {request.steps.at(-1)?.what !== 'passed up' && (
          <Button
            variant="outline-primary"
            onClick={() =>
              void run((path) =>
                take(api.POST('/api/requests/{request_id}/pass-up', { ...path, body: { reason: text } })),
              )
            }
          >
            Pass up
          </Button>
        )}
      </div>
      {trouble && (
        <p className="over mt-2" role="alert">
          {trouble}
        </p>
      )}
    </div>
  )
}

/** Ask the parent for more of a product, or offer some back. */
export function AskForm({
  account,
  product,
  productName,
  unit,
  perUnit,
  done,
}: {
  account: string
  product: string
  productName: string
  unit: string
  perUnit: number
  done: () => void
}) {
  const queries = useQueryClient()
  const [typed, setTyped] = useState('')
  const [back, setBack] = useState(false)
  const [asWhat, setAsWhat] = useState<Schemas['Ask']['as_what']>('cap')
  const [reason, setReason] = useState('')
  const [day, setDay] = useState('')
  const [trouble, setTrouble] = useState('')
  const amount = parseUnits(typed, perUnit)
  const ask = async () => {
    try {
      await take(
        api.POST('/api/requests', {
          body: {
            account,
            product,
            amount: back ? -(amount ?? 0) : (amount ?? 0),
            as_what: asWhat,
            reason,
            wish_day: day || null,
          },
        }),
      )
      await queries.invalidateQueries({ queryKey: ['requests'] })
      done()
    } catch (error) {
      setTrouble(error instanceof Error ? error.message : 'That did not work.')
    }
  }
  return (
    <Form
      className="ask"
      onSubmit={(event) => {
        event.preventDefault()
        void ask()
      }}
    >
      <h3>
        {back ? 'Offer back' : 'Ask for more'}: {productName}
      </h3>
      <div className="d-flex gap-2">
        <Form.Group controlId="ask-amount">
          <Form.Label>{unitName(unit, 2)}</Form.Label>
          <Form.Control
            value={typed}
            inputMode="decimal"
            style={{ width: 80 }}
            onChange={(event) => setTyped(event.target.value)}
          />
        </Form.Group>
        <Form.Group controlId="ask-as" className="grow">
          <Form.Label>As</Form.Label>
          <Form.Select
            value={back ? 'back' : asWhat}
            onChange={(event) => {
              setBack(event.target.value === 'back')
              if (event.target.value !== 'back') setAsWhat(event.target.value as 'cap' | 'reserve')
            }}
          >
            <option value="cap">a higher cap</option>
            <option value="reserve">a higher reserve</option>
            <option value="back">an offer back</option>
          </Form.Select>
        </Form.Group>
      </div>
      <Form.Group controlId="ask-reason">
        <Form.Label>Why</Form.Label>
        <Form.Control
          as="textarea"
          rows={2}
          value={reason}
          maxLength={2000}
          onChange={(event) => setReason(event.target.value)}
        />
      </Form.Group>
      <Form.Group controlId="ask-day">
        <Form.Label>Wished for by</Form.Label>
        <Form.Control type="date" value={day} onChange={(event) => setDay(event.target.value)} />
      </Form.Group>
      {trouble && (
        <p className="over small" role="alert">
          {trouble}
        </p>
      )}
      <div className="d-flex gap-2">
        <Button type="submit" disabled={!amount}>
          Send
        </Button>
        <Button variant="outline-primary" onClick={done}>
          Cancel
        </Button>
      </div>
    </Form>
  )
}
