import { useQuery } from '@tanstack/react-query'
import { Sure } from '../../components/Sure'
import { TableMenu } from '../../components/ExportMenu'
import { useAction } from '../../api/useAction'
import { Button, Form } from 'react-bootstrap'
import { AccountSelect } from '../../components/AccountSelect'
import { api, take, type Schemas } from '../../api/client'
import { me, useOnlyAccount } from '../../api/queries'
import { Trouble, Wait } from '../../components/States'
import { PeopleTabs } from './PeopleTabs'
import { domains as domainsQuery, joinsWaiting } from './queries'
import { WaitingToJoin } from './WaitingToJoin'

type Joining = Schemas['DomainWanted']['joining']

/** Whose addresses let them join by themselves, and who waits to be let in? */
export default function DomainsScreen() {
  const found = useQuery(domainsQuery)
  const waiting = useQuery(joinsWaiting)
  const running = useQuery(me).data?.running
  const isOperator = running?.kind === 'operator'
  const only = useOnlyAccount()
  const { run, trouble } = useAction('domains', 'today')
  if (found.isError) return <Trouble page="Self sign-up" error={found.error} again={() => void found.refetch()} />
  if (!found.data) return <Wait what="the domains" />
  const change = (work: Promise<unknown>) => run(() => work)
  const put = (domain: string, account: string, joining: Joining) =>
    change(take(api.PUT('/api/domains/{domain}', { params: { path: { domain } }, body: { account, joining } })))
  const approve = (domain: string, account: string) =>
    change(take(api.POST('/api/domains/{domain}/approve', { params: { path: { domain } }, body: { account } })))
  const ways = (
    <>
      <option value="approved">after approval</option>
      <option value="at once">at once</option>
    </>
  )
  return (
    <>
      <div className="bar tightbar">
        <h1>Self sign-up</h1>
        <PeopleTabs at="domains" />
        <span className="grow" />
        {found.data.length > 0 && <TableMenu name="email-domains" of="Domains" />}
        {trouble && (
          <span className="over small" role="alert">
            {trouble}
          </span>
        )}
      </div>
      <div className="scroll account" role="region" aria-label="Self sign-up" tabIndex={0}>
        <div className="onecolumn">
          <div>
            <section aria-label="Waiting">
              <h2 className="sub">Sign-up requests</h2>
              {waiting.data?.length === 0 && <p className="quiet">Nobody.</p>}
              {waiting.data?.map((each) => (
                <WaitingToJoin each={each} key={each.id} />
              ))}
            </section>
            <section aria-label="Domains">
              <h2 className="sub">E-mail domains</h2>
              <p className="quiet small">
                People sign up at{' '}
                <a href="/joining" className="text-decoration-underline">
                  {location.host}/joining
                </a>{' '}
                with an address of one of these domains, confirm it by a link in a mail, and join at once or after
                approval. The operator approves each domain.
              </p>
              {found.data.length > 0 && (
                <table className="ledger tight">
                  <thead>
                    <tr>
                      <th>Domain</th>
                      <th>Account</th>
                      <th>Joins</th>
                      <th>State</th>
                      <th>
                        <span className="visually-hidden">Do</span>
                      </th>
                    </tr>
                  </thead>
                  <tbody>
                    {found.data.map((each) => (
                      <tr key={`${each.domain} ${each.account}`}>
                        <td>{each.domain}</td>
                        <td>{each.account_name}</td>
                        <td>
                          <Form.Select
                            size="sm"
                            aria-label={`Sign-up at ${each.domain}`}
                            value={each.joining}
                            onChange={(event) => void put(each.domain, each.account, event.target.value as Joining)}
                          >
                            {ways}
                          </Form.Select>
                        </td>
                        <td>
                          {each.approved ? (
                            'approved'
                          ) : isOperator ? (
                            <Button
                              size="sm"
                              variant="outline-primary"
                              aria-label={`Approve ${each.domain} for ${each.account_name}`}
                              onClick={() => void approve(each.domain, each.account)}
                            >
                              Approve
                            </Button>
                          ) : (
                            'waiting for approval'
                          )}
                        </td>
                        <td>
                          <Sure
                            act="Remove"
                            of={each.domain}
                            means="No one can join through it."
                            run={() =>
                              void change(
                                take(
                                  api.DELETE('/api/domains/{domain}', {
                                    params: { path: { domain: each.domain }, query: { account: each.account } },
                                  }),
                                ),
                              )
                            }
                            inLine
                          />
                        </td>
                      </tr>
                    ))}
                  </tbody>
                </table>
              )}
              <Form
                className="lotform mt-3"
                onSubmit={(event) => {
                  event.preventDefault()
                  const form = event.currentTarget
                  const text = (name: string) => (new FormData(form).get(name) as string | null) ?? ''
                  void put(text('domain').trim(), text('account'), text('joining') as Joining).then(
                    (done) => done && form.reset(),
                  )
                }}
              >
                <Form.Group controlId="new-domain">
                  <Form.Label>Domain</Form.Label>
                  <Form.Control name="domain" placeholder="client.example" required maxLength={253} />
                </Form.Group>
                <Form.Group controlId="new-joining">
                  <Form.Label>Joins</Form.Label>
                  <Form.Select name="joining">{ways}</Form.Select>
                </Form.Group>
                <Form.Group controlId="new-account">
                  <Form.Label>Account</Form.Label>
                  <AccountSelect
                    name="account"
                    defaultValue={only}
                    any="choose…"
                    required
                    only={(each) => each.status === 'active'}
                  />
                </Form.Group>
                <div className="align-self-end">
                  <Button type="submit" variant="outline-primary">
                    Add domain
                  </Button>
                </div>
              </Form>
            </section>
          </div>
        </div>
      </div>
    </>
  )
}
