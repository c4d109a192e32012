import { useState } from 'react'
import { useAction } from '../api/useAction'
import { Button, Form } from 'react-bootstrap'
import { api, ApiError, take, type Schemas } from '../api/client'

type Changes = Schemas['AskFor']['changes']

/** The changes that can be asked for where a refusal was for a ceiling of one's own; null where it was not. */
function toAsk(error: unknown): Changes | null {
  if (!(error instanceof ApiError) || error.body.type !== 'urn:fair-ladle:above-ceiling') return null
  const changes = error.body.ask as Changes
  return changes.length ? changes : null
}

/** Where an act was above one's ceiling: have those do it who may. */
export function AskInstead({ error, name }: { error: unknown; name: string }) {
  const changes = toAsk(error)
  const { run, said } = useAction('drafts')
  const ask = (reason: string) =>
    run(async () => {
      await take(api.POST('/api/drafts/ask', { body: { name, changes: changes ?? [], reason } }))
      return 'Request sent. The draft is kept under Drafts.'
    })
  if (!changes) return null
  if (said) return <p role="status">{said.text}</p>
  return <WhyForm label="Reason" send="Send request" ask={ask} />
}

/** A reason, and sending it. */
export function WhyForm({
  label,
  send,
  ask,
}: {
  label: string
  send: string
  ask: (reason: string) => Promise<unknown>
}) {
  const [busy, setBusy] = useState(false)
  return (
    <Form
      className="d-flex gap-2 align-items-end my-2"
      onSubmit={(event) => {
        event.preventDefault()
        setBusy(true)
        const reason = new FormData(event.currentTarget).get('reason')
        void ask(typeof reason === 'string' ? reason : '').finally(() => setBusy(false))
      }}
    >
      <Form.Group controlId="ask-reason" className="flex-grow-1">
        <Form.Label>{label}</Form.Label>
        <Form.Control name="reason" required maxLength={1000} />
      </Form.Group>
      <Button type="submit" variant="outline-primary" disabled={busy}>
        {send}
      </Button>
    </Form>
  )
}
