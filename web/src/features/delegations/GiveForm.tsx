import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form, Modal } from 'react-bootstrap'
import { api, showAs, take } from '../../api/client'
import { useAction } from '../../api/useAction'
import { accountsNamed, me } from '../../api/queries'
import { AccountSelect } from '../../components/AccountSelect'
import { AddAccount } from '../../components/AddAccount'
import { Field, isAbout, text } from '../../components/Field'
import { Trouble } from '../../components/States'
import { groupNames } from '../people/queries'
import type { DelegationBody, DelegationsBody } from './DelegationsScreen'
import { isFree, LimitsFields, limitsSaid, whole } from './LimitsFields'

/** A delegation to give, or one that is changed. */
export interface Giving {
  change: DelegationBody | null
  account?: string
  email?: string
  name?: string
}

interface Props {
  giving: Giving
  body: DelegationsBody
  close: () => void
  done: (said: string) => void
}

const FIELDS = ['email', 'name', 'first_day', 'last_day']

/** Who runs which account, in which role and until when. */
export function GiveForm({ giving, body, close, done }: Props) {
  const { change } = giving
  const roles = body.roles.filter((each) => each.givable)
  const [role, setRole] = useState(change?.role ?? roles[0]?.key ?? '')
  const [passesOn, setPassesOn] = useState(change?.passes_on ?? false)
  const [limits, setLimits] = useState(whole(change?.limits))
  const [more, setMore] = useState<string[]>([])
  const running = useQuery(me).data?.running.account
  const [account, setAccount] = useState(giving.account ?? '')
  const [peopleOf, setPeopleOf] = useState('')
  const groups = (useQuery(groupNames).data ?? []).filter((each) => each.account === (account || running))
  const named = useQuery(accountsNamed(more)).data ?? []
  const { run, busy, error } = useAction()
  const chosen = body.roles.find((each) => each.key === role)
  const words = new Map(body.permissions.map((each) => [each.key, each.words]))
  const send = async (form: FormData) => {
    const terms = {
      role,
      first_day: text(form, 'first_day') || null,
      last_day: text(form, 'last_day') || null,
      passes_on: passesOn,
      limits: isFree(limits) ? null : limits,
    }
    await run(async () => {
      if (change) {
        await take(
          api.PUT('/api/delegations/{delegation_id}', {
            params: { path: { delegation_id: change.id } },
            body: terms,
          }),
        )
        done(`Changed for ${change.name}.`)
      } else {
        const name = text(form, 'name')
        await take(
          api.POST('/api/delegations', {
            body: {
              ...terms,
              name,
              email: text(form, 'email'),
              accounts: [text(form, 'account'), ...more],
              people_of: peopleOf || null,
            },
          }),
        )
        done(`${name} is told by mail.`)
      }
    })
  }
  return (
    <Modal show onHide={close} animation={false} size="lg" aria-labelledby="give-title">
      <Form
        onSubmit={(event) => {
          event.preventDefault()
          void send(new FormData(event.currentTarget))
        }}
      >
        <Modal.Header closeButton>
          <Modal.Title as="h2" id="give-title">
            {change ? `${change.name} in ${change.account_name}` : 'New delegation'}
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          <div className="lotform">
            {!change && (
              <>
                <Field
                  name="name"
                  label="Name"
                  error={error}
                  required
                  maxLength={200}
                  defaultValue={giving.name}
                  autoFocus
                />
                <Field
                  name="email"
                  label="E-mail address"
                  error={error}
                  type="email"
                  required
                  maxLength={254}
                  defaultValue={giving.email}
                  hint="A link to set a password goes there, if they do not sign in yet"
                />
                <Form.Group controlId="give-account" style={{ gridColumn: '1 / -1' }}>
                  <Form.Label>Account, with all below it</Form.Label>
                  <AccountSelect
                    name="account"
                    defaultValue={giving.account}
                    only={(each) => each.status !== 'closed'}
                    onChange={(code) => {
                      setAccount(code)
                      setPeopleOf('')
                    }}
                  />
                  {more.length > 0 && (
                    <ul className="plain mt-1" aria-label="Further accounts">
                      {more.map((each) => (
                        <li key={each}>
                          {named.find((one) => one.account === each)?.name ?? each}{' '}
                          <button
                            type="button"
                            className="btn btn-link btn-sm p-0"
                            aria-label={`Not ${each}`}
                            onClick={() => setMore(more.filter((one) => one !== each))}
                          >
                            ×
                          </button>
                        </li>
                      ))}
                    </ul>
                  )}
                </Form.Group>
              </>
            )}
            <Form.Group controlId="give-role">
              <Form.Label>Role</Form.Label>
              <Form.Select
                value={role}
                autoFocus={change !== null}
                onChange={(event) => setRole(event.target.value)}
                aria-describedby="give-role-said"
              >
                {body.roles
                  .filter((each) => each.givable || each.key === change?.role)
                  .map((each) => (
                    <option key={each.key} value={each.key}>
                      {each.name}
                    </option>
                  ))}
              </Form.Select>
            </Form.Group>
            <Field
              name="last_day"
              label="Last day, empty = open"
              error={error}
              type="date"
              min={body.today}
              defaultValue={change?.last_day ?? ''}
            />
            <Field
              name="first_day"
              label="First day, empty = at once"
              error={error}
              type="date"
              defaultValue={change?.first_day ?? ''}
            />
            <Form.Check
              className="align-self-end mb-1"
              id="give-passes-on"
              label="May delegate further, never with more"
              checked={passesOn}
              onChange={(event) => setPassesOn(event.target.checked)}
            />
          </div>
          {chosen && (
            <p className="quiet small mt-2 mb-0" id="give-role-said">
              {chosen.about} They can {chosen.permissions.map((each) => words.get(each)).join('; ')}.
            </p>
          )}
          <details className="mt-2" open={!isFree(limits) || undefined}>
            <summary>
              Limits{limitsSaid(limits) && <span className="quiet small"> · {limitsSaid(limits)}</span>}
            </summary>
            <LimitsFields limits={limits} change={setLimits} roles={passesOn ? body.roles : []} />
          </details>
          {!change && groups.length > 0 && (
            <details className="mt-2">
              <summary>Only the people of a group</summary>
              <Form.Group controlId="give-people-of">
                <Form.Label>They see these people and their seats, no figures of the account</Form.Label>
                <Form.Select value={peopleOf} onChange={(event) => setPeopleOf(event.target.value)}>
                  <option value="">the whole account</option>
                  {groups.map((each) => (
                    <option key={each.code} value={each.code}>
                      {each.name}
                    </option>
                  ))}
                </Form.Select>
              </Form.Group>
            </details>
          )}
          {!change && (
            <details className="mt-2">
              <summary>More accounts</summary>
              <AddAccount
                id="give-more"
                label="Another account"
                only={(each) => each.status !== 'closed' && !more.includes(each.account)}
                add={(account) => setMore([...more, account])}
              />
            </details>
          )}
          {error !== null && !FIELDS.some((each) => isAbout(error, each)) && <Trouble error={error} />}
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-primary" onClick={close}>
            Cancel
          </Button>
          <Button
            variant="outline-primary"
            disabled={!chosen?.givable}
            onClick={(event) => {
              const form = event.currentTarget.closest('form')
              showAs(change?.account ?? (form ? text(new FormData(form), 'account') : ''), role)
              location.assign('/')
            }}
          >
            Preview as this role
          </Button>
          <Button type="submit" disabled={busy || !chosen}>
            {change ? 'Save' : 'Create delegation'}
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  )
}
