import { useQuery } from '@tanstack/react-query'
import { Button, Form } from 'react-bootstrap'
import { api, take } from '../../api/client'
import { accountsNamed } from '../../api/queries'
import { AccountSelect } from '../../components/AccountSelect'
import { text } from '../../components/Field'
import type { DelegationsBody } from './DelegationsScreen'

interface Props {
  body: DelegationsBody
  attempt: (work: () => Promise<unknown>, message: string) => Promise<unknown>
}

/** Which accounts nobody runs without a second factor, and in which role. */
export function SecondFactorRules({ body, attempt }: Props) {
  const rules = body.second_factor
  const named = useQuery(accountsNamed(rules.map((each) => each.account))).data ?? []
  const account = (code: string) => named.find((each) => each.account === code)?.name ?? code
  const role = (key: string | null) =>
    key === null ? 'every role' : (body.roles.find((each) => each.key === key)?.name ?? key)
  const put = (code: string, key: string | null, required: boolean) =>
    attempt(
      () => take(api.PUT('/api/delegations/second-factor', { body: { account: code, role: key, required } })),
      `${account(code)}, ${role(key)}: a second factor is ${required ? 'required' : 'not required any more'}.`,
    )
  return (
    <section aria-label="Second factor">
      <h2 className="sub">Second factor required</h2>
      {rules.length === 0 && <p className="quiet small mb-1">Not required anywhere.</p>}
      <ul className="plain apart">
        {rules.map((each) => (
          <li key={`${each.account} ${each.role ?? ''}`}>
            {account(each.account)} <span className="quiet small">with all below it, {role(each.role)}</span>{' '}
            {body.may_give && (
              <button
                type="button"
                className="btn btn-link btn-sm p-0"
                aria-label={`Stop requiring a second factor: ${account(each.account)}, ${role(each.role)}`}
                onClick={() => void put(each.account, each.role, false)}
              >
                Stop requiring
              </button>
            )}
          </li>
        ))}
      </ul>
      {body.may_give && (
        <Form
          className="mt-1"
          onSubmit={(event) => {
            event.preventDefault()
            const form = new FormData(event.currentTarget)
            void put(text(form, 'account'), text(form, 'role') || null, true)
          }}
        >
          <Form.Group controlId="factor-account">
            <Form.Label>In, with all below it</Form.Label>
            <AccountSelect name="account" />
          </Form.Group>
          <Form.Group controlId="factor-role" className="mt-1">
            <Form.Label>For</Form.Label>
            <Form.Select name="role">
              <option value="">every role</option>
              {body.roles.map((each) => (
                <option key={each.key} value={each.key}>
                  {each.name}
                </option>
              ))}
            </Form.Select>
          </Form.Group>
          <Button type="submit" size="sm" variant="outline-primary" className="mt-2">
            Require
          </Button>
        </Form>
      )}
    </section>
  )
}
