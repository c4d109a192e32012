import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { parseUnits, unitName } from '../../domain/units'
import { BudgetNote } from './BudgetNote'
import { DayField } from '../../components/DayField'

/** Ask the parent for more of a product, or offer some back. */
export function AskForm({
  account,
  product,
  productName,
  unit,
  perUnit,
  capped,
  done,
}: {
  account: string
  product: string
  productName: string
  unit: string
  perUnit: number
  /** Whether it has a cap that could be higher. */
  capped: boolean
  /** Closes it; true where the request was sent. */
  done: (sent: boolean) => void
}) {
  const [typed, setTyped] = useState('')
  const [back, setBack] = useState(false)
  const [asWhat, setAsWhat] = useState<Schemas['Ask']['as_what']>(capped ? 'cap' : 'reserve')
  const [reason, setReason] = useState('')
  const [day, setDay] = useState('')
  const [until, setUntil] = useState('')
  const { run, trouble } = useAction('requests')
  const amount = parseUnits(typed, perUnit)
  const ask = async () => {
    await run(async () => {
      await take(
        api.POST('/api/requests', {
          body: {
            account,
            product,
            amount: back ? -(amount ?? 0) : (amount ?? 0),
            as_what: asWhat,
            reason,
            wish_day: day || null,
            last_day: (!back && until) || null,
          },
        }),
      )
      done(true)
    })
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
            autoFocus
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
            {capped && <option value="cap">a higher cap</option>}
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
      <div className="d-flex gap-2">
        <Form.Group controlId="ask-day" className="grow">
          <Form.Label>Needed by</Form.Label>
          <DayField value={day} onDay={setDay} />
        </Form.Group>
        {!back && (
          <Form.Group controlId="ask-until" className="grow">
            <Form.Label>Last day (optional)</Form.Label>
            <DayField value={until} onDay={setUntil} />
          </Form.Group>
        )}
      </div>
      <BudgetNote account={account} product={product} more={back ? 0 : (amount ?? 0) / perUnit} />
      {trouble && (
        <p className="over small" role="alert">
          {trouble}
        </p>
      )}
      <div className="d-flex gap-2">
        <Button type="submit" disabled={!amount}>
          Send
        </Button>
        <Button variant="outline-primary" onClick={() => done(false)}>
          Cancel
        </Button>
      </div>
    </Form>
  )
}
