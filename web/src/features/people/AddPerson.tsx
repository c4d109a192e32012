import { useAction } from '../../api/useAction'
import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form, Modal } from 'react-bootstrap'
import { AccountSelect } from '../../components/AccountSelect'
import { api, ApiError, take } from '../../api/client'
import { useCan } from '../../api/queries'
import { delegations } from '../delegations/queries'

const MEMBER = 'member'

/** Add one person, invited by mail or active at once. */
export function AddPerson({ account, close }: { account: string; close: () => void }) {
  const [invite, setInvite] = useState(true)
  const { run, busy, error, trouble } = useAction('people', 'groups', 'accounts', 'log')
  const known =
    error instanceof ApiError && error.body.username && typeof error.body.name === 'string' ? error.body.name : null
  const [link, setLink] = useState(false)
  const [role, setRole] = useState(MEMBER)
  const gives = useCan('delegations.give')
  const found = useQuery({ ...delegations, enabled: gives }).data
  const roles = found?.may_give ? found.roles.filter((each) => each.givable) : []
  const runs = roles.find((each) => each.key === role)
  const add = async (form: FormData) => {
    const text = (name: string) => ((form.get(name) as string | null) ?? '').trim() || null
    await run(async () => {
      await take(
        api.POST('/api/people', {
          body: {
            account: text('account') ?? account,
            display_name: text('name') ?? '',
            email: text('email'),
            username: text('username'),
            title: text('title'),
            department: text('department'),
            invite,
            link,
            role,
          },
        }),
      )
      close()
    })
  }
  const field = (name: string, label: string, more: Partial<React.ComponentProps<typeof Form.Control>> = {}) => (
    <Form.Group controlId={`person-${name}`}>
      <Form.Label>{label}</Form.Label>
      <Form.Control name={name} maxLength={200} {...more} />
    </Form.Group>
  )
  return (
    <Modal show onHide={close} animation={false} aria-labelledby="add-title">
      <Form
        onSubmit={(event) => {
          event.preventDefault()
          void add(new FormData(event.currentTarget))
        }}
      >
        <Modal.Header closeButton>
          <Modal.Title as="h2" id="add-title">
            Add a person
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          <div className="lotform">
            {field('name', 'Name', { autoFocus: true, required: true })}
            {field('email', 'E-mail address', { type: 'email', required: invite || role !== MEMBER })}
            <Form.Group controlId="person-account" style={{ gridColumn: '1 / -1' }}>
              <Form.Label>Account</Form.Label>
              <AccountSelect
                name="account"
                defaultValue={account}
                any="choose…"
                required
                only={(each) => each.status === 'active'}
              />
            </Form.Group>
            {field('title', 'Title')}
            {field('department', 'Department')}
            {field('username', 'Username (optional)', { maxLength: 128 })}
          </div>
          <Form.Check
            className="mt-2"
            id="person-invite"
            label="Invite by mail; the invitation expires by itself"
            checked={invite}
            onChange={(event) => setInvite(event.target.checked)}
          />
          {roles.length > 0 && (
            <Form.Group controlId="person-role" className="mt-2">
              <Form.Label>Role</Form.Label>
              <Form.Select
                value={role}
                aria-describedby="person-role-said"
                onChange={(event) => setRole(event.target.value)}
              >
                <option value={MEMBER}>Member: signs in nowhere here</option>
                {roles.map((each) => (
                  <option key={each.key} value={each.key}>
                    {each.name} of the account
                  </option>
                ))}
              </Form.Select>
              {runs && (
                <div className="quiet small" id="person-role-said">
                  {runs.about} They get a mail with a link to set a password.
                </div>
              )}
            </Form.Group>
          )}
          {known && (
            <div className="lotform mt-2">
              <Form.Check
                id="person-link"
                label={`It is ${known}, who joins here too`}
                checked={link}
                onChange={(event) => setLink(event.target.checked)}
              />
            </div>
          )}
          {trouble && (
            <p className="over mt-2 mb-0" role="alert">
              {trouble}
            </p>
          )}
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-primary" onClick={close}>
            Cancel
          </Button>
          <Button type="submit" disabled={busy}>
            {link ? 'Link' : invite ? 'Add and invite' : 'Add'}
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  )
}
