import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useDeferredValue, useState } from 'react'
import { Button, Form, Modal } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { AccountSelect } from '../../components/AccountSelect'
import type { NewLot } from '../../domain/draft'
import { dayName, nextDay } from '../../domain/months'
import { money } from '../../domain/money'
import { costOf } from '../drafts/Purchases'
import { parseUnits, units, unitName } from '../../domain/units'
import { DayField } from '../../components/DayField'

type PoolBody = Schemas['PoolBody']
export type Lot = Schemas['LotBody']

/** What a purchase needs to know of the pool it lands in. */
export type BuyingFrom = Pick<PoolBody, 'owner' | 'product' | 'name' | 'unit' | 'per_unit' | 'currency' | 'lots'>

interface LotFormProps {
  pool: BuyingFrom
  /** The lot that is renewed; null for a new purchase. */
  renews: Lot | null
  today: string
  put: (lot: NewLot) => void
  close: () => void
}

function yearAfter(day: string): string {
  return nextDay(`${Number(day.slice(0, 4)) + 1}${day.slice(4)}`, -1)
}

/** A purchase, or a renewal with other quantity, price or term; it goes into the draft. */
export function LotForm({ pool, renews, today, put, close }: LotFormProps) {
  const begins = renews?.last_day ? nextDay(renews.last_day) : today
  const [typed, setTyped] = useState({
    owner: pool.owner,
    reference: renews ? `${renews.reference}-R` : '',
    quantity: renews ? units(renews.quantity, pool.per_unit) : '',
    first_day: begins,
    last_day: renews ? yearAfter(begins) : '',
    unit_cost: renews?.unit_cost ?? pool.lots.at(-1)?.unit_cost ?? '',
    currency: pool.currency,
    true_up: units(renews?.true_up ?? 0, pool.per_unit),
  })
  const set = (name: keyof typeof typed) => (event: { target: { value: string } }) =>
    setTyped((now) => ({ ...now, [name]: event.target.value }))
  const quantity = parseUnits(typed.quantity, pool.per_unit)
  const trueUp = typed.true_up.trim() === '' ? 0 : parseUnits(typed.true_up, pool.per_unit)
  const price = /^\d{1,10}([.,]\d{1,10})?$/.test(typed.unit_cost.trim())
    ? typed.unit_cost.trim().replace(',', '.')
    : null
  const sound =
    quantity !== null &&
    quantity > 0 &&
    trueUp !== null &&
    price !== null &&
    /^[A-Za-z]{3}$/.test(typed.currency.trim()) &&
    typed.reference.trim() !== '' &&
    typed.first_day !== '' &&
    (!typed.last_day || typed.last_day >= typed.first_day)
  const cost = costOf(
    { quantity: quantity ?? 0, unit_cost: price ?? '0', first_day: typed.first_day, last_day: typed.last_day || null },
    pool.per_unit,
  )
  const send = () => {
    if (!sound) return
    put({
      kind: 'new lot',
      owner: typed.owner,
      product: pool.product,
      reference: typed.reference.trim(),
      quantity,
      first_day: typed.first_day,
      last_day: typed.last_day || null,
      unit_cost: price,
      currency: typed.currency.trim().toUpperCase(),
      true_up: trueUp,
      overcommit: renews?.overcommit ?? null,
      renews: renews?.reference ?? null,
    })
    close()
  }
  const field = (name: keyof typeof typed, label: string, wrong: boolean) => (
    <Form.Group controlId={`lot-${name}`}>
      <Form.Label>{label}</Form.Label>
      <Form.Control
        value={typed[name]}
        isInvalid={wrong}
        autoFocus={name === 'quantity'}
        onChange={set(name)}
        inputMode={name === 'reference' || name === 'currency' ? undefined : 'decimal'}
      />
    </Form.Group>
  )
  const day = (name: 'first_day' | 'last_day', label: string, wrong: boolean) => (
    <Form.Group controlId={`lot-${name}`}>
      <Form.Label>{label}</Form.Label>
      <DayField
        value={typed[name]}
        isInvalid={wrong}
        onDay={(chosen) => setTyped((now) => ({ ...now, [name]: chosen }))}
      />
    </Form.Group>
  )
  return (
    <Modal show onHide={close} animation={false} size={renews ? 'lg' : undefined} aria-labelledby="lot-title">
      <Form
        onSubmit={(event) => {
          event.preventDefault()
          send()
        }}
      >
        <Modal.Header closeButton>
          <Modal.Title as="h2" id="lot-title">
            {renews ? `Renew ${renews.reference}` : `Buy ${pool.name}`}
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          <div className="lotform">
            {field('quantity', `Quantity, ${unitName(pool.unit, 2)}`, typed.quantity !== '' && !quantity)}
            {field('unit_cost', `Price of one a month, ${typed.currency}`, typed.unit_cost !== '' && price === null)}
            {day('first_day', 'First day', typed.first_day === '')}
            {day('last_day', 'Last day, empty = open', typed.last_day !== '' && typed.last_day < typed.first_day)}
            {field('reference', 'Order reference', false)}
            {pool.lots.length === 0 && field('currency', 'Currency', !/^[A-Za-z]{3}$/.test(typed.currency.trim()))}
            {field('true_up', 'True-up the terms allow', trueUp === null)}
            {!renews && (
              <Form.Group controlId="lot-owner" style={{ gridColumn: '1 / -1' }}>
                <Form.Label>Pool owner</Form.Label>
                <AccountSelect
                  value={typed.owner}
                  onChange={(owner) => setTyped((now) => ({ ...now, owner }))}
                  only={(each) => each.kind !== 'sub-account'}
                />
              </Form.Group>
            )}
          </div>
          {sound && (
            <p className="mt-2 mb-0" role="status">
              <b>
                {money(cost.monthly)} {typed.currency}
              </b>{' '}
              per month{cost.total !== null && `, ${money(cost.total)} ${typed.currency} over the term`}
            </p>
          )}
          {renews && quantity !== null && quantity > 0 && typed.first_day !== '' && (
            <RenewalEffect pool={pool} quantity={quantity} trueUp={trueUp ?? 0} firstDay={typed.first_day} />
          )}
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-primary" onClick={close}>
            Cancel
          </Button>
          <Button type="submit" disabled={!sound}>
            Add to draft
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  )
}

/** What renewing so much would leave uncovered, and what each account below would have to give back. */
function RenewalEffect({
  pool,
  quantity,
  trueUp,
  firstDay,
}: {
  pool: BuyingFrom
  quantity: number
  trueUp: number
  firstDay: string
}) {
  const query = useDeferredValue(`${quantity} ${trueUp} ${firstDay}`)
  const [asked = '', extra = '', day = ''] = query.split(' ')
  const found = useQuery({
    queryKey: ['pools', 'renewal', pool.owner, pool.product, query],
    placeholderData: keepPreviousData,
    retry: false,
    queryFn: () =>
      take(
        api.GET('/api/pools/{owner}/{product}/renewal', {
          params: {
            path: { owner: pool.owner, product: pool.product },
            query: { quantity: Number(asked), true_up: Number(extra), first_day: day },
          },
        }),
      ),
  })
  if (!found.data) return null
  const { short, gives } = found.data
  const most = (each: Schemas['GivesBody']) => Math.max(each.to_one_level ?? 0, each.where_least_used ?? 0)
  const of = (grains: number | null) =>
    grains === null ? '–' : grains === 0 ? <span className="quiet">0</span> : <b>{units(grains, pool.per_unit)}</b>
  return (
    <section aria-label="What it would do" className="mt-3">
      {short === 0 ? (
        <p className="good mb-0" role="status">
          Covers what is reserved and in use now.
        </p>
      ) : (
        <>
          <p className="over mb-1" role="status">
            From {dayName(firstDay)} on {units(short, pool.per_unit)} {unitName(pool.unit, short / pool.per_unit)} of
            what is counted now would not be covered. To fit, these accounts must release:
          </p>
          <div style={{ maxHeight: 220, overflow: 'auto' }} role="region" aria-label="By account" tabIndex={0}>
            <table className="ledger tight">
              <thead>
                <tr>
                  <th>Account</th>
                  <th className="fig">Counted</th>
                  <th className="fig">In use</th>
                  <th className="fig">Release: same level for all</th>
                  <th className="fig">Release: least used first</th>
                </tr>
              </thead>
              <tbody>
                {[...gives]
                  .sort((one, other) => most(other) - most(one))
                  .map((each) => (
                    <tr key={each.account}>
                      <td>{each.name}</td>
                      <td className="fig">{units(each.counted, pool.per_unit)}</td>
                      <td className="fig">{units(each.used, pool.per_unit)}</td>
                      <td className="fig">{of(each.to_one_level)}</td>
                      <td className="fig">{of(each.where_least_used)}</td>
                    </tr>
                  ))}
              </tbody>
            </table>
          </div>
        </>
      )}
    </section>
  )
}
