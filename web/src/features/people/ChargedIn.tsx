import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form, Modal } from 'react-bootstrap'
import { Link } from 'react-router'
import { api, take } from '../../api/client'
import { Trouble, Wait } from '../../components/States'
import { money } from '../../domain/money'
import { monthAfter, monthName } from '../../domain/months'
import { decimal } from '../../domain/units'

/** Back from somebody's seat to what it is charged in: hours, the account's part of the line, the statement. */
export function ChargedIn({
  username,
  name,
  product,
  productName,
  present,
  close,
}: {
  username: string
  name: string
  product: string
  productName: string
  /** The present month, YYYY-MM. */
  present: string
  close: () => void
}) {
  const [month, setMonth] = useState(present)
  const found = useQuery({
    queryKey: ['statements', 'trace', username, product, month],
    queryFn: () => take(api.GET('/api/statements/trace', { params: { query: { username, product, month } } })),
    placeholderData: keepPreviousData,
    retry: false,
  })
  const months = Array.from({ length: 12 }, (_, back) => monthAfter(present, -back))
  return (
    <Modal show onHide={close} animation={false} size="lg" aria-labelledby="charged-title">
      <Modal.Header closeButton>
        <Modal.Title as="h2" id="charged-title">
          {productName} of {name} in statements
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        <Form.Group controlId="charged-month" className="mb-2">
          <Form.Label>Month</Form.Label>
          <Form.Select value={month} style={{ width: 'auto' }} onChange={(event) => setMonth(event.target.value)}>
            {months.map((each) => (
              <option key={each} value={each}>
                {monthName(each)}
                {each === present && ', so far'}
              </option>
            ))}
          </Form.Select>
        </Form.Group>
        {found.isError ? (
          <Trouble error={found.error} again={() => void found.refetch()} />
        ) : !found.data ? (
          <Wait what="the statements" />
        ) : (
          <>
            <p>
              {Number(found.data.hours)
                ? `In use ${decimal(found.data.hours, 1)} of ${found.data.of_hours} hours of ${monthName(found.data.month)}.`
                : `Not in use in ${monthName(found.data.month)}.`}
            </p>
            {found.data.charged_in.length === 0 ? (
              Number(found.data.hours) > 0 && (
                <p className="quiet mb-0">No statement you see charges it in this month.</p>
              )
            ) : (
              <table className="ledger tight" aria-label="Charged in">
                <thead>
                  <tr>
                    <th>Statement of</th>
                    <th className="fig">Of their account</th>
                    <th className="fig">Line of {productName}</th>
                    <th className="fig">Statement with tax</th>
                  </tr>
                </thead>
                <tbody>
                  {found.data.charged_in.map((each) => (
                    <tr key={`${each.buyer} ${each.seller} ${each.account_name} ${each.currency}`}>
                      <td>
                        <Link
                          to={`/statements/${encodeURIComponent(each.buyer)}?month=${month}&line=${encodeURIComponent(product)}`}
                        >
                          {each.buyer_name}
                        </Link>{' '}
                        <span className="quiet small">{each.number ?? 'open'}</span>
                      </td>
                      <td className="fig">
                        <span className="quiet small me-1">{each.account_name}</span> {money(each.part)}
                      </td>
                      <td className="fig">{money(each.line)}</td>
                      <td className="fig">
                        {money(each.total)} {each.currency}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            )}
          </>
        )}
      </Modal.Body>
      <Modal.Footer>
        <Button onClick={close}>Close</Button>
      </Modal.Footer>
    </Modal>
  )
}
