import { useState } from 'react'
import { Button, Form, Modal } from 'react-bootstrap'
import type { Schemas } from '../../api/client'
import type { NewLot } from '../../domain/draft'
import { parseUnits, units, unitName } from '../../domain/units'

type PoolBody = Schemas['PoolBody']
export type Lot = Schemas['LotBody']

interface LotFormProps {
  pool: PoolBody
  /** The lot that is renewed; null for a new purchase. */
  renews: Lot | null
  today: string
  owners: { code: string; name: string }[]
  put: (lot: NewLot) => void
  close: () => void
}

/** The day after another, as YYYY-MM-DD. */
export function nextDay(day: string, by = 1): string {
  return new Date(Date.parse(`${day}T00:00:00Z`) + by * 86_400_000).toISOString().slice(0, 10)
}

function yearAfter(day: string): string {
  return nextDay(`${Number(day.slice(0, 4)) + 1}${day.slice(4)}`, -1)
}

/** A purchase, or a renewal with other quantity, price or term; it goes into the draft. */
export function LotForm({ pool, renews, today, owners, put, close }: LotFormProps) {
  const begins = renews?.last_day ? nextDay(renews.last_day) : today
  const [typed, setTyped] = useState({
    owner: pool.owner, reference: renews ? `${renews.reference}-R` : '', quantity: renews ? units(renews.quantity, pool.per_unit) : '', first_day: begins,
    last_day: renews ? yearAfter(begins) : '', unit_cost: renews?.unit_cost ?? pool.lots.at(-1)?.unit_cost ?? '', true_up: units(renews?.true_up ?? 0, pool.per_unit),
  })
  const set = (name: keyof typeof typed) => (event: { target: { value: string } }) => setTyped((now) => ({ ...now, [name]: event.target.value }))
  const quantity = parseUnits(typed.quantity, pool.per_unit)
  const trueUp = typed.true_up.trim() === '' ? 0 : parseUnits(typed.true_up, pool.per_unit)
  const price = /^\d{1,10}([.,]\d{1,10})?$/.test(typed.unit_cost.trim()) ? typed.unit_cost.trim().replace(',', '.') : null
  const sound = quantity !== null && quantity > 0 && trueUp !== null && price !== null && typed.reference.trim() !== '' && typed.first_day !== '' && (!typed.last_day || typed.last_day >= typed.first_day)
  const send = () => {
    if (!sound) return
    put({
      kind: 'new lot', owner: typed.owner, product: pool.product, reference: typed.reference.trim(), quantity, first_day: typed.first_day, last_day: typed.last_day || null,
      unit_cost: price, currency: pool.currency, true_up: trueUp, overcommit: renews?.overcommit ?? null, renews: renews?.reference ?? null,
    })
    close()
  }
  const field = (name: keyof typeof typed, label: string, wrong: boolean, type = 'text') => (
    <Form.Group controlId={`lot-${name}`}>
      <Form.Label>{label}</Form.Label>
      <Form.Control type={type} value={typed[name]} isInvalid={wrong} autoFocus={name === 'quantity'} onChange={set(name)} inputMode={type === 'text' && name !== 'reference' ? 'decimal' : undefined} />
    </Form.Group>
  )
  return (
    <Modal show onHide={close} animation={false} aria-labelledby="lot-title">
      <Form onSubmit={(event) => { event.preventDefault(); send() }}>
        <Modal.Header closeButton><Modal.Title id="lot-title">{renews ? `Renew ${renews.reference}` : `Buy ${pool.name}`}</Modal.Title></Modal.Header>
        <Modal.Body>
          <div className="lotform">
            {field('quantity', `Quantity, ${unitName(pool.unit, 2)}`, typed.quantity !== '' && !quantity)}
            {field('unit_cost', `Price of one a month, ${pool.currency}`, typed.unit_cost !== '' && price === null)}
            {field('first_day', 'First day', typed.first_day === '', 'date')}
            {field('last_day', 'Last day, empty = open', typed.last_day !== '' && typed.last_day < typed.first_day, 'date')}
            {field('reference', 'Order reference', false)}
            {field('true_up', 'True-up the terms allow', trueUp === null)}
            {!renews && owners.length > 1 && (
              <Form.Group controlId="lot-owner" style={{ gridColumn: '1 / -1' }}>
                <Form.Label>Lands with</Form.Label>
                <Form.Select value={typed.owner} onChange={set('owner')}>{owners.map((each) => <option key={each.code} value={each.code}>{each.name}</option>)}</Form.Select>
              </Form.Group>
            )}
          </div>
        </Modal.Body>
        <Modal.Footer><Button variant="outline-primary" onClick={close}>Cancel</Button><Button type="submit" disabled={!sound}>Put it into the draft</Button></Modal.Footer>
      </Form>
    </Modal>
  )
}
