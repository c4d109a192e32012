import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Form } from 'react-bootstrap'
import { api, take } from '../../api/client'
import { Empty, Trouble, Wait } from '../../components/States'
import { useRested } from '../../components/useRested'
import { money, signed } from '../../domain/money'
import { dayName } from '../../domain/months'
import { besides } from '../../domain/prices'
import { decimal, unitName } from '../../domain/units'
import { cardWords } from './card'

/** What one pays oneself, before the bill, and what more would cost. */
export function OwnPrices({ account }: { account: string }) {
  const [typed, setTyped] = useState('20')
  const more = useRested(/^[-−]?\d{1,6}$/.test(typed.trim()) ? Number(typed.trim().replace('−', '-')) : 0, 200)
  const found = useQuery({
    queryKey: ['statements', 'prices', 'own', account, more],
    queryFn: () => take(api.GET('/api/prices/own/{buyer}', { params: { path: { buyer: account }, query: { more } } })),
    placeholderData: keepPreviousData,
  })
  if (found.isError) return <Trouble error={found.error} again={() => void found.refetch()} />
  if (!found.data) return <Wait what="the prices" />
  const { seller_name, prices } = found.data
  if (prices.length === 0)
    return <Empty title="No prices yet">Nothing that {seller_name || 'anybody'} charges you has a price.</Empty>
  return (
    <div className="scroll" role="region" aria-label="What you pay" tabIndex={0}>
      <table className="ledger">
        <thead>
          <tr>
            <th>Product</th>
            <th>Price of {seller_name}</th>
            <th>Since</th>
            <th className="fig">Last month</th>
            <th className="fig">Charged</th>
            <th className="fig">
              <label htmlFor="more-units" className="me-1">
                A month with
              </label>
              <Form.Control
                id="more-units"
                size="sm"
                value={typed}
                inputMode="numeric"
                style={{ width: 62, display: 'inline-block' }}
                onChange={(event) => setTyped(event.target.value)}
              />{' '}
              more
            </th>
          </tr>
        </thead>
        <tbody>
          {prices.map((each) => (
            <tr key={each.product}>
              <td style={{ fontWeight: 620 }}>{each.name}</td>
              <td>
                {cardWords(each.card)} {each.card.currency}{' '}
                <span className="quiet small">
                  a {each.unit} and month · {besides(each.card)}
                </span>
              </td>
              <td className="text-nowrap">
                {dayName(each.card.first_day)}
                {each.card.next_day && <span className="near small"> another from {dayName(each.card.next_day)}</span>}
              </td>
              <td className="fig">
                {decimal(each.quantity, 2)} <span className="quiet small">{unitName(each.unit, 2)}</span>
              </td>
              <td className="fig">
                {money(each.charged)} <span className="quiet small">{each.card.currency}</span>
              </td>
              <td className="fig">
                <b>{each.more_costs === null ? '–' : signed(each.more_costs)}</b>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}
