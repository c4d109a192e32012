import { useQuery } from '@tanstack/react-query'
import { Button, Form, Modal } from 'react-bootstrap'
import { api, take } from '../../api/client'
import { dayName } from '../../domain/months'
import { text } from '../../components/Field'
import { Empty, Trouble, Wait } from '../../components/States'
import { DayField } from '../../components/DayField'

/** Asks for a day that is over. */
export function PastDay({ today, ask }: { today: string; ask: (day: string) => void }) {
  return (
    <section aria-label="On a past day">
      <h2 className="sub">Permissions on a past day</h2>
      <Form
        className="d-flex gap-2 align-items-end"
        onSubmit={(event) => {
          event.preventDefault()
          ask(text(new FormData(event.currentTarget), 'day'))
        }}
      >
        <Form.Group controlId="past-day">
          <Form.Label>On</Form.Label>
          <DayField name="day" means="last" max={today} required />
        </Form.Group>
        <Button type="submit" size="sm" variant="outline-primary">
          Show
        </Button>
      </Form>
    </section>
  )
}

/** Permissions on a past day at some time of a day. */
export function Past({ day, close }: { day: string; close: () => void }) {
  const found = useQuery({
    queryKey: ['delegations', 'past', day],
    queryFn: () => take(api.GET('/api/delegations/past', { params: { query: { day } } })),
  })
  return (
    <Modal show onHide={close} animation={false} size="lg" scrollable aria-labelledby="past-title">
      <Modal.Header closeButton>
        <Modal.Title as="h2" id="past-title">
          Permissions on {dayName(day)}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        {found.isError ? (
          <Trouble error={found.error} />
        ) : !found.data ? (
          <Wait what="the permissions" />
        ) : found.data.length === 0 ? (
          <Empty title="No delegations">No delegation was in force that day.</Empty>
        ) : (
          <table className="ledger tight" aria-label="Permissions on a past day">
            <thead>
              <tr>
                <th>Account</th>
                <th>Who</th>
                <th>Role then</th>
                <th>Permissions then</th>
              </tr>
            </thead>
            <tbody>
              {found.data.map((each) => (
                <tr key={`${each.account} ${each.email}`}>
                  <td>{each.account_name}</td>
                  <td>
                    {each.name} <div className="quiet small">{each.email}</div>
                  </td>
                  <td>
                    {each.role_name}
                    {each.passes_on && <div className="quiet small">could delegate further</div>}
                  </td>
                  <td className="quiet small">{each.permissions.join(', ')}</td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </Modal.Body>
      <Modal.Footer>
        <Button variant="outline-primary" onClick={close}>
          Close
        </Button>
      </Modal.Footer>
    </Modal>
  )
}
