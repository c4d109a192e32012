import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { useAction } from '../../api/useAction'
import { Button, Form } from 'react-bootstrap'
import { Link, useParams } from 'react-router'
import { api, take } from '../../api/client'
import { me, useCan } from '../../api/queries'
import { dayName, dayOf, instantName } from '../../domain/months'
import { AccountLink } from '../../components/AccountLink'
import { Trouble, Wait } from '../../components/States'
import { OfPerson } from '../devices/OfPerson'
import { BulkActions } from './BulkActions'
import { ChargedIn } from './ChargedIn'
import { Erase } from './Erase'
import { Layers } from './Layers'
import { Runs } from './Runs'
import { person as personQuery, type PersonBody } from './queries'
import { StorageOf } from './Storage'
import { STATUS } from './statusMarks'

/** One person: what they have and since when, through which groups, what they run, and what was done to them. */
export default function PersonScreen() {
  const { username = '' } = useParams()
  const found = useQuery(personQuery(username))
  if (found.isError) return <Trouble page="Person" error={found.error} again={() => void found.refetch()} />
  if (!found.data) return <Wait what="the person" />
  return <Loaded body={found.data} key={username} />
}

function Loaded({ body }: { body: PersonBody }) {
  const status = STATUS[body.status]
  const who = useQuery(me).data
  const whole = who?.running.people_of === null
  const bills = useCan('statements.see')
  const [charged, setCharged] = useState<PersonBody['holdings'][number] | null>(null)
  return (
    <>
      <div className="bar">
        <Link to="/people" className="quiet small">
          People ›
        </Link>
        <h1>{body.name}</h1>
        <span className="tag">{body.username}</span>
        {body.protected && <span className="tag">protected</span>}
        {body.admin && <span className="tag">admin</span>}
        <span className={`small ${status?.tone ?? ''}`}>
          {status?.mark} {body.status}
        </span>
        <span className="grow" />
        <span className="quiet small">
          {body.last_seen_at ? `last seen ${dayName(dayOf(body.last_seen_at))}` : 'never seen'}
        </span>
      </div>
      <div className="scroll account" role="region" aria-label={body.name} tabIndex={0}>
        <div className="columns">
          <div>
            <section aria-label="Products">
              <h2 className="sub">Products</h2>
              {body.holdings.length === 0 ? (
                <p className="quiet">None.</p>
              ) : (
                <table className="ledger tight held">
                  <thead>
                    <tr>
                      <th>Product</th>
                      <th>Since</th>
                      <th>Counted in</th>
                      <th>State</th>
                      {bills && (
                        <th>
                          <span className="visually-hidden">Charged in</span>
                        </th>
                      )}
                    </tr>
                  </thead>
                  <tbody>
                    {body.holdings.map((each) => (
                      <tr key={each.product}>
                        <td>{each.product_name}</td>
                        <td>{dayName(dayOf(each.since))}</td>
                        <td>
                          <AccountLink account={each.account}>
                            {each.account === body.account ? body.account_name : each.account}
                          </AccountLink>
                        </td>
                        <td>{each.on_hold ? <span className="over">■ on hold</span> : 'in use'}</td>
                        {bills && (
                          <td className="fig">
                            <Button
                              variant="link"
                              size="sm"
                              className="p-0"
                              aria-label={`Charged in: ${each.product_name}`}
                              onClick={() => setCharged(each)}
                            >
                              Charged in…
                            </Button>
                          </td>
                        )}
                      </tr>
                    ))}
                  </tbody>
                </table>
              )}
            </section>
            {body.aside.length > 0 && (
              <p className="mt-2 mb-0">Reserved: {body.aside.map((each) => each.product_name).join(', ')}.</p>
            )}
            <section aria-label="Entitlements by source">
              <h2 className="sub">Entitlements by source</h2>
              <Layers body={body} />
            </section>
            <StorageOf body={body} />
            <section aria-label="Groups">
              <h2 className="sub">Groups</h2>
              {body.member_of.length === 0 ? (
                <p className="quiet">In none.</p>
              ) : (
                <table className="ledger tight">
                  <thead>
                    <tr>
                      <th>Group</th>
                      <th>How</th>
                    </tr>
                  </thead>
                  <tbody>
                    {body.member_of.map((each) => (
                      <tr key={`${each.account}/${each.code}`}>
                        <td>
                          {whole ? (
                            <Link to={`/groups?group=${encodeURIComponent(`${each.account}/${each.code}`)}`}>
                              {each.name}
                            </Link>
                          ) : (
                            each.name
                          )}
                        </td>
                        <td>{each.reasons.join(', ')}</td>
                      </tr>
                    ))}
                  </tbody>
                </table>
              )}
            </section>
            <section aria-label="Earlier entitlements">
              <h2 className="sub">Earlier entitlements</h2>
              {body.past.length === 0 ? (
                <p className="quiet">Nothing so far.</p>
              ) : (
                <table className="ledger tight">
                  <thead>
                    <tr>
                      <th>Product</th>
                      <th>From</th>
                      <th>To</th>
                    </tr>
                  </thead>
                  <tbody>
                    {body.past.slice(0, 40).map((each) => (
                      <tr key={`${each.product_name} ${each.begins}`}>
                        <td>{each.product_name}</td>
                        <td>{instantName(each.begins)}</td>
                        <td>{each.ends ? instantName(each.ends) : <span className="quiet">in use</span>}</td>
                      </tr>
                    ))}
                  </tbody>
                </table>
              )}
            </section>
            <section aria-label="History">
              <h2 className="sub">History</h2>
              {body.history.length === 0 ? (
                <p className="quiet">No changes since the import.</p>
              ) : (
                <table className="ledger tight">
                  <tbody>
                    {body.history.slice(0, 40).map((each) => (
                      <tr key={`${each.at} ${each.action}`}>
                        <td className="quiet text-nowrap">{instantName(each.at)}</td>
                        <td>{each.actor}</td>
                        <td>{each.action}</td>
                        <td className="quiet">{told(each.before, each.after)}</td>
                      </tr>
                    ))}
                  </tbody>
                </table>
              )}
            </section>
          </div>
          <aside>
            <section aria-label="Where">
              <h2 className="sub">Account</h2>
              <AccountLink account={body.account}>{body.account_name}</AccountLink>
              {body.way.length > 0 && <span className="quiet small"> of {body.way.join(', of ')}</span>}
              {body.invited_at && <p className="quiet small mb-0">Invited {dayName(dayOf(body.invited_at))}</p>}
            </section>
            <Facts body={body} />
            <Erase body={body} />
            <OfPerson username={body.username} />
            <Runs body={body} />
            {body.also.length > 0 && (
              <section aria-label="Same address">
                <h2 className="sub">Same e-mail address</h2>
                <ul className="plain">
                  {body.also.map((each) => (
                    <li key={each.username}>
                      <Link to={`/people/${encodeURIComponent(each.username)}`}>{each.username}</Link>{' '}
                      <span className="quiet small">{each.name}</span>
                    </li>
                  ))}
                </ul>
              </section>
            )}
          </aside>
        </div>
      </div>
      <BulkActions
        who={{ usernames: [body.username], status: body.status === 'removed' ? 'removed' : null }}
        count={1}
        names={[body.name]}
        removed={body.status === 'removed'}
        done={() => undefined}
        only={sensible(body)}
      />
      {charged && who && (
        <ChargedIn
          username={body.username}
          name={body.name}
          product={charged.product}
          productName={charged.product_name}
          present={dayOf(who.now).slice(0, 7)}
          close={() => setCharged(null)}
        />
      )}
    </>
  )
}

/** Actions with somebody as they are. */
function sensible(body: PersonBody): string[] {
  const any = ['release', 'group', 'move', body.protected ? 'unprotect' : 'protect', 'remove']
  if (body.status === 'suspended') return ['resume', ...any]
  if (body.aside.length > 0) any.unshift('cancel reservation')
  return [
    'assign',
    'reserve',
    'swap',
    'suspend',
    ...(body.status === 'invited' ? ['invite', 'revoke invitation'] : []),
    ...any,
  ]
}

/** A value of the log in words. */
function word(value: unknown): string {
  return value === null || value === undefined ? 'none' : typeof value === 'string' ? value : JSON.stringify(value)
}

function told(before: Record<string, unknown> | null, after: Record<string, unknown> | null): string {
  return Object.entries({ ...before, ...after })
    .map(([name]) => {
      const [was, now] = [before?.[name], after?.[name]]
      return was !== undefined && now !== undefined
        ? `${name}: ${word(was)} → ${word(now)}`
        : `${name}: ${word(now ?? was)}`
    })
    .join('; ')
}

function Facts({ body }: { body: PersonBody }) {
  const changes = useCan('people.change')
  const { run, said } = useAction('people', 'groups', 'log')
  const save = async (form: FormData) => {
    const text = (name: string) => ((form.get(name) as string | null) ?? '').trim()
    await run(async () => {
      await take(
        api.PUT('/api/people/{username}', {
          params: { path: { username: body.username } },
          body: {
            display_name: text('name'),
            email: text('email') || null,
            title: text('title') || null,
            department: text('department') || null,
          },
        }),
      )
      return 'Saved.'
    })
  }
  const field = (name: string, label: string, value: string | null, type = 'text') => (
    <Form.Group controlId={`facts-${name}`}>
      <Form.Label>{label}</Form.Label>
      <Form.Control
        name={name}
        type={type}
        defaultValue={value ?? ''}
        maxLength={254}
        disabled={body.source !== 'here' || !changes}
      />
    </Form.Group>
  )
  return (
    <section aria-label="Facts">
      <h2 className="sub">Name and address</h2>
      <Form
        onSubmit={(event) => {
          event.preventDefault()
          void save(new FormData(event.currentTarget))
        }}
      >
        {field('name', 'Name', body.name)}
        {field('email', 'E-mail address', body.email, 'email')}
        {field('title', 'Title', body.title)}
        {field('department', 'Department', body.department)}
        {!changes ? null : body.source === 'here' ? (
          <div className="d-flex gap-2 align-items-center mt-2">
            <Button type="submit" variant="outline-primary">
              Save
            </Button>
            {said && (
              <span className={said.bad ? 'over small' : 'good small'} role={said.bad ? 'alert' : 'status'}>
                {said.text}
              </span>
            )}
          </div>
        ) : (
          <p className="quiet small">Maintained by {body.source}; changed there.</p>
        )}
      </Form>
    </section>
  )
}
