import { useQuery } from '@tanstack/react-query'
import { useEffect, useState } from 'react'
import { Button, Form, Modal } from 'react-bootstrap'
import { few } from '../../domain/units'
import { AccountSelect } from '../../components/AccountSelect'
import { api, take } from '../../api/client'
import { useAction } from '../../api/useAction'
import { me, useOnlyAccount } from '../../api/queries'
import { clockTime } from '../../domain/months'
import { PersonField } from './PersonField'
import { CHANGES } from './queries'

/** Numbers for an account, each with who uses it and where; they are held while this is open. */
export function AssignNumbers({
  product,
  numbers,
  close,
  done,
}: {
  product: string
  numbers: string[]
  close: () => void
  done: () => void
}) {
  const top = useQuery(me).data?.running.account ?? ''
  const only = useOnlyAccount()
  const [chosen, setAccount] = useState('')
  const account = chosen || only
  const [uses, setUses] = useState<Record<string, { username: string; address: string }>>({})
  const [address, setAddress] = useState('')
  const { run, trouble } = useAction(...CHANGES)
  const [kept, setKept] = useState<string | null>(null)
  const path = { params: { path: { product } } }
  useEffect(() => {
    void run(async () =>
      setKept(
        (await take(api.POST('/api/items/{product}/reserve', { ...path, body: { account: top, count: 0, numbers } })))
          .until,
      ),
    )
  }, []) // eslint-disable-line react-hooks/exhaustive-deps
  const of = (number: string) => uses[number] ?? { username: '', address: '' }
  const set = (number: string, change: Partial<{ username: string; address: string }>) =>
    setUses((now) => ({ ...now, [number]: { ...of(number), ...change } }))
  const leave = async () => {
    close()
    if (kept) await run(() => take(api.POST('/api/items/{product}/cancel-hold', { ...path, body: { numbers } })))
  }
  const assign = async () => {
    await run(async () => {
      await take(
        api.POST('/api/items/{product}/assign', {
          ...path,
          body: {
            account,
            uses: numbers.map((number) => ({
              number,
              username: of(number).username.trim() || null,
              address: of(number).address.trim() || address.trim() || null,
            })),
          },
        }),
      )
      done()
      close()
    })
  }
  return (
    <Modal show onHide={() => void leave()} animation={false} size="lg" aria-labelledby="assign-title" scrollable>
      <Modal.Header closeButton>
        <Modal.Title as="h2" id="assign-title">
          Assign: {few(numbers)}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        <Form
          id="assign-numbers"
          onSubmit={(event) => {
            event.preventDefault()
            void assign()
          }}
        >
          <div className="lotform mb-2">
            <Form.Group controlId="assign-account">
              <Form.Label>In the account</Form.Label>
              <AccountSelect
                autoFocus
                value={account}
                any="choose…"
                onChange={setAccount}
                only={(each) => each.status === 'active'}
              />
            </Form.Group>
            <Form.Group controlId="assign-address">
              <Form.Label>Address where they are used</Form.Label>
              <Form.Control value={address} maxLength={500} onChange={(event) => setAddress(event.target.value)} />
            </Form.Group>
          </div>
          <table className="ledger tight">
            <thead>
              <tr>
                <th>Number</th>
                <th>
                  Person <span className="quiet">(empty = nobody)</span>
                </th>
                <th>Another address</th>
              </tr>
            </thead>
            <tbody>
              {numbers.map((number) => (
                <tr key={number}>
                  <td>{number}</td>
                  <td>
                    <PersonField
                      id={`person-of-${number}`}
                      hidden
                      label={`Person of ${number}`}
                      value={of(number).username}
                      onChange={(username) => set(number, { username })}
                    />
                  </td>
                  <td>
                    <Form.Control
                      aria-label={`Address of ${number}`}
                      value={of(number).address}
                      maxLength={500}
                      onChange={(event) => set(number, { address: event.target.value })}
                    />
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          <p className="quiet small mt-2 mb-0">
            {kept ? `Held for you until ${clockTime(kept)}. ` : ''}A telephone number needs the address where it is
            used.
          </p>
        </Form>
        {trouble && (
          <p className="over mt-2 mb-0" role="alert">
            {trouble}
          </p>
        )}
      </Modal.Body>
      <Modal.Footer>
        <Button variant="outline-primary" onClick={() => void leave()}>
          Cancel
        </Button>
        <Button type="submit" form="assign-numbers" disabled={!account}>
          Assign {numbers.length}
        </Button>
      </Modal.Footer>
    </Modal>
  )
}
