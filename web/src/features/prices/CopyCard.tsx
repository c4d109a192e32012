import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import type { Schemas } from '../../api/client'
import { useDraft } from '../drafts/context'
import { BuyerSelect } from './BuyerSelect'
import { copyOf, type Card } from './card'
import { buyersOf } from './queries'

/** Give a reseller one's own prices as its own, so many percent higher: of this product, or of all. */
export function CopyCard({
  prices,
  card,
  begins,
}: {
  prices: Schemas['PricesBody']
  card: Card
  /** The first day of the copies. */
  begins: string
}) {
  const draft = useDraft()
  const resellers = useQuery(buyersOf(prices.seller, { kind: 'reseller' })).data?.total ?? 0
  const [reseller, setReseller] = useState('')
  const [percent, setPercent] = useState('20')
  const [all, setAll] = useState(false)
  const [said, setSaid] = useState('')
  if (resellers === 0) return null
  const cards = (all ? prices.cards : [card]).filter((each) => !each.is_markup)
  const sound = /^\d{1,4}([.,]\d{1,4})?$/.test(percent.trim())
  return (
    <Form
      className="mt-3"
      aria-label="Copy to a reseller"
      onSubmit={(event) => {
        event.preventDefault()
        draft.set(cards.map((each) => copyOf(each, reseller, begins, percent.trim().replace(',', '.'))))
        setSaid(`${cards.length} ${cards.length === 1 ? 'price' : 'prices'} in the draft.`)
      }}
    >
      <h3 className="sub">Copy to a reseller</h3>
      <div className="cardfields">
        <Form.Group controlId="copy-reseller" className="two">
          <Form.Label>What it charges its own buyers</Form.Label>
          <BuyerSelect
            seller={prices.seller}
            kind="reseller"
            name="reseller"
            choose="Choose a reseller"
            required
            onChange={setReseller}
          />
        </Form.Group>
        <Form.Group controlId="copy-percent">
          <Form.Label>Higher by, %</Form.Label>
          <Form.Control
            inputMode="decimal"
            value={percent}
            isInvalid={!sound}
            onChange={(event) => setPercent(event.target.value)}
          />
        </Form.Group>
      </div>
      <Form.Check
        id="copy-all"
        className="my-1"
        label="All products with a general price"
        checked={all}
        onChange={(event) => setAll(event.target.checked)}
      />
      <div className="d-flex gap-2 align-items-center">
        <Button type="submit" size="sm" variant="outline-primary" disabled={!sound || !reseller || cards.length === 0}>
          Add {cards.length} to draft
        </Button>
        {said && (
          <span className="good" role="status">
            {said}
          </span>
        )}
      </div>
    </Form>
  )
}
