import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form, Modal } from 'react-bootstrap'
import { api, take } from '../../api/client'

/** Renewals and endings as a calendar to subscribe to, at a secret address that can be made anew. */
export function CalendarButton() {
  const [show, setShow] = useState(false)
  return (
    <>
      <Button variant="outline-primary" onClick={() => setShow(true)}>
        Calendar
      </Button>
      {show && <Address close={() => setShow(false)} />}
    </>
  )
}

function Address({ close }: { close: () => void }) {
  const queries = useQueryClient()
  const state = useQuery({ queryKey: ['pools', 'calendar'], queryFn: () => take(api.GET('/api/pools/calendar')) })
  const [address, setAddress] = useState('')
  const make = async () => {
    const made = await take(api.POST('/api/pools/calendar'))
    setAddress(`${location.origin}${made.path}`)
    await queries.invalidateQueries({ queryKey: ['pools', 'calendar'] })
  }
  const drop = async () => {
    await take(api.DELETE('/api/pools/calendar'))
    setAddress('')
    await queries.invalidateQueries({ queryKey: ['pools', 'calendar'] })
  }
  return (
    <Modal show onHide={close} animation={false} aria-labelledby="calendar-title">
      <Modal.Header closeButton>
        <Modal.Title as="h2" id="calendar-title">
          Renewals and endings in your calendar
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        {address ? (
          <Form.Group controlId="calendar-address">
            <Form.Label>Subscribe to this address. It is shown once; whoever has it can read the dates.</Form.Label>
            <Form.Control readOnly value={address} onFocus={(event) => event.target.select()} autoFocus />
          </Form.Group>
        ) : (
          <p>
            {state.data?.made
              ? 'There is an address already. A new one replaces it.'
              : 'Your calendar program can follow what begins and what ends. Keep the address to yourself.'}
          </p>
        )}
      </Modal.Body>
      <Modal.Footer>
        {state.data?.made && (
          <Button variant="outline-primary" onClick={() => void drop()}>
            Stop sharing
          </Button>
        )}
        <Button onClick={() => void make()}>{state.data?.made ? 'Create new address' : 'Create address'}</Button>
      </Modal.Footer>
    </Modal>
  )
}
