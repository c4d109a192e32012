import { useQuery } from '@tanstack/react-query'
import { Fragment, useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useNavigate, useParams } from 'react-router'
import { api, take } from '../../api/client'
import { useAction } from '../../api/useAction'
import { First } from '../../components/First'
import { AccountSelect } from '../../components/AccountSelect'
import {
  accountDetail,
  cell,
  gridOf,
  holdsOf,
  actsPage,
  me,
  requestsOf,
  noticesOf,
  useCan,
  type AccountBody,
  type Grid,
  type Pool,
} from '../../api/queries'
import { dayName, dayOf, instantName } from '../../domain/months'
import { shortUnits, unitName } from '../../domain/units'
import { Gauge } from '../../components/Gauge'
import { Ladder } from '../../components/Ladder'
import { StateMark, Trouble, Wait } from '../../components/States'
import { useOutcome } from '../../components/Outcome'
import { useDraft } from '../drafts/context'
import { EntitlementsEditor } from '../people/EntitlementsEditor'
import { StorageLimits } from '../people/Storage'
import { AskForm } from '../requests/AskForm'
import { BillingDialog } from './BillingDialog'
import { BudgetSection } from './BudgetSection'
import { StatementPlot } from './StatementPlot'
import { actorName } from '../log/actors'
import { RequestItem } from '../requests/RequestItem'
import { NewClient } from './NewClient'
import { Settings } from './Settings'
import { KeepTemplate, Status } from './Status'

/** One client or department on one page: what one looks at with them on the phone. */
export default function AccountScreen() {
  const { account = '' } = useParams()
  const found = useQuery(accountDetail(account))
  const grid = useQuery(gridOf(account))
  if (found.isError) return <Trouble page="Account" error={found.error} again={() => void found.refetch()} />
  if (!found.data || !grid.data) return <Wait what="the account" />
  return <Loaded body={found.data} grid={grid.data} key={account} />
}

function Loaded({ body, grid }: { body: AccountBody; grid: Grid }) {
  const drafts = useCan('accounts.change')
  const sees = useCan('statements.see')
  const [creating, setCreating] = useState(new URLSearchParams(location.search).get('new') === 'account')
  const place = grid.accounts.code.indexOf(body.account)
  const pools = grid.pools.filter((pool) => pool.present[place] === 1)
  const to = `/allocations?account=${encodeURIComponent(body.account)}&pools=all`
  return (
    <>
      <div className="bar">
        {body.parent && (
          <Link to={`/accounts/${encodeURIComponent(body.parent)}`} className="quiet small">
            {body.parent_name} ›
          </Link>
        )}
        <h1>{body.name}</h1>
        <span className="tag">{body.kind}</span>
        <span className="tag">{body.account}</span>
        {body.status !== 'active' && <span className="tag near">{body.status}</span>}
        <Link className="quiet small" to={`/people?account=${encodeURIComponent(body.account)}`}>
          {(body.people.active ?? 0) + (body.people.invited ?? 0) + (body.people.suspended ?? 0)} people
          {body.people.invited ? `, ${body.people.invited} invited` : ''}
          {body.people.suspended ? `, ${body.people.suspended} suspended` : ''}
        </Link>
        <span className="grow" />
        {body.status !== 'closed' && drafts && (
          <Button variant="outline-primary" onClick={() => setCreating(true)}>
            New sub-account
          </Button>
        )}
        <Link className="btn btn-outline-primary" to={to}>
          Allocations
        </Link>
      </div>
      <div className="scroll account" role="region" aria-label={body.name} tabIndex={0}>
        {body.warnings.map((each) => (
          <p className="over" role="alert" key={each}>
            {each}
          </p>
        ))}
        <div className="columns">
          <div>
            <Pools pools={pools} place={place} account={body.account} />
            <EntitlementsEditor account={body.account} group={null} />
            <StorageLimits account={body.account} group={null} />
            <Requests account={body.account} />
            <Changes account={body.account} />
          </div>
          <aside>
            <Facts body={body} />
            {body.parent && <Status body={body} />}
            <OnHold account={body.account} grid={grid} />
            <Notices account={body.account} />
            {body.parent && <StatementPlot account={body.account} />}
            {body.kind !== 'operator' && sees && <BudgetSection account={body.account} />}
            <Below body={body} />
            <Settings account={body.account} />
            {body.parent && body.status !== 'closed' && <KeepTemplate body={body} />}
          </aside>
        </div>
      </div>
      {creating && <NewClient parent={body} day={grid.day} close={() => setCreating(false)} />}
    </>
  )
}

/** Every limit on the way up from the account in one pool, and which of them holds it. */
function LadderOf({ account, product }: { account: string; product: string }) {
  const found = useQuery(cell(account, product, null))
  const go = useNavigate()
  if (found.isError) return <Trouble error={found.error} again={() => void found.refetch()} />
  if (!found.data) return <Wait what="the ladder" />
  return (
    <div className="ladderhere">
      <p className="say">{found.data.ladder.sentence}</p>
      <Ladder
        limits={found.data.ladder.limits}
        unit={found.data.unit}
        onRung={(above) =>
          void go(`/allocations?account=${encodeURIComponent(above)}&product=${encodeURIComponent(product)}&pools=all`)
        }
      />
    </div>
  )
}

function Pools({ pools, place, account }: { pools: Pool[]; place: number; account: string }) {
  const who = useQuery(me)
  const [asking, setAsking] = useState(new URLSearchParams(window.location.search).get('ask'))
  const [ladder, setLadder] = useState<string | null>(null)
  const top = who.data?.running.account === account
  return (
    <section aria-label="Pools">
      <h2 className="sub">Pools</h2>
      <table className="ledger tight limits">
        <thead>
          <tr>
            <th>Product</th>
            <th className="fig">In use</th>
            <th className="fig">In use and reserved</th>
            <th className="fig">Reserve</th>
            <th className="fig">Cap</th>
            <th className="fig">To cap</th>
            <th>
              <span className="visually-hidden">Drawn</span>
            </th>
            <th>
              <span className="visually-hidden">Ask</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {pools.map((pool) => {
            const [load, cap, used, room] = [
              pool.load[place] ?? 0,
              pool.cap[place] ?? null,
              pool.used_by[place] ?? 0,
              pool.headroom[place] ?? null,
            ]
            const over = cap !== null && load > cap
            return (
              <Fragment key={pool.product}>
                <tr>
                  <td>
                    <Link
                      to={`/allocations?account=${encodeURIComponent(account)}&product=${encodeURIComponent(pool.product)}&pools=all`}
                    >
                      {pool.name}
                    </Link>{' '}
                    <span className="quiet small">{unitName(pool.unit, 2)}</span>
                  </td>
                  <td className="fig">{shortUnits(used, pool.per_unit)}</td>
                  <td className="fig">{shortUnits(load, pool.per_unit)}</td>
                  <td className="fig">{shortUnits(pool.reserve[place] ?? 0, pool.per_unit)}</td>
                  <td className="fig">{cap === null ? '–' : shortUnits(cap, pool.per_unit)}</td>
                  <td className={over ? 'fig over' : 'fig'}>
                    {over
                      ? `${shortUnits(load - cap, pool.per_unit)} over`
                      : cap === null
                        ? '–'
                        : shortUnits(cap - load, pool.per_unit)}{' '}
                    <StateMark state={pool.state[place] ?? 'within'} />
                  </td>
                  <td>
                    <Gauge
                      width={130}
                      amounts={{
                        used: Math.min(used, load),
                        held: pool.held_by[place] ?? load,
                        reserve: pool.reserve[place] ?? 0,
                        limit: cap,
                        reachable: load + Math.max(0, room ?? load * 0.15),
                      }}
                    />
                  </td>
                  <td className="fig text-nowrap">
                    <button
                      type="button"
                      className="btn btn-link btn-sm p-0"
                      aria-expanded={ladder === pool.product}
                      aria-label={`Ladder of ${pool.name}`}
                      onClick={() => setLadder(ladder === pool.product ? null : pool.product)}
                    >
                      Ladder
                    </button>{' '}
                    {top && !pool.owned && (
                      <button
                        type="button"
                        className="btn btn-link btn-sm p-0 ms-3"
                        onClick={() => setAsking(asking === pool.product ? null : pool.product)}
                      >
                        Ask for more
                      </button>
                    )}
                  </td>
                </tr>
                {ladder === pool.product && (
                  <tr>
                    <td colSpan={8}>
                      <LadderOf account={account} product={pool.product} />
                    </td>
                  </tr>
                )}
              </Fragment>
            )
          })}
        </tbody>
      </table>
      {pools
        .filter((pool) => pool.product === asking)
        .map((pool) => (
          <AskForm
            key={pool.product}
            account={account}
            product={pool.product}
            productName={pool.name}
            unit={pool.unit}
            perUnit={pool.per_unit}
            capped={pool.cap[place] != null}
            done={() => setAsking(null)}
          />
        ))}
    </section>
  )
}

function Requests({ account }: { account: string }) {
  const found = useQuery(requestsOf(account))
  return (
    <section aria-label="Requests">
      <h2 className="sub">Requests</h2>
      {found.data?.length ? (
        found.data.map((each) => <RequestItem request={each} key={each.id} />)
      ) : (
        <p className="quiet">None.</p>
      )}
    </section>
  )
}

function Changes({ account }: { account: string }) {
  const found = useQuery({ queryKey: ['log', 'of', account], queryFn: () => actsPage({ account }, undefined, 8) })
  return (
    <section aria-label="Last changes">
      <h2 className="sub">
        Last changes{' '}
        <Link className="small ms-2" to={`/log?account=${encodeURIComponent(account)}`}>
          all
        </Link>
      </h2>
      <table className="ledger tight">
        <tbody>
          {found.data?.acts.map((each) => (
            <tr key={each.newest}>
              <td className="text-nowrap quiet">{instantName(each.at)}</td>
              <td className="text-nowrap">{actorName(each.actor)}</td>
              <td>
                {each.sentence} <span className="quiet">{each.detail}</span>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  )
}

function Facts({ body }: { body: AccountBody }) {
  const draft = useDraft()
  const { run, trouble } = useAction('accounts', 'allocations', 'log', 'today')
  const outcome = useOutcome()
  const save = async (form: FormData) => {
    const text = (name: string) => ((form.get(name) as string | null) ?? '').trim()
    await run(async () => {
      await take(
        api.PUT('/api/accounts/{account}', {
          params: { path: { account: body.account } },
          body: { name: text('name'), admin_email: text('admin') || null, billing_email: text('billing') || null },
        }),
      )
      setEditing(false)
      outcome(`${text('name')}: saved.`)
    })
  }
  const [editing, setEditing] = useState(false)
  const [billing, setBilling] = useState(false)
  const [parent, setParent] = useState(body.parent ?? '')
  const may = useCan('accounts.change')
  const move = () => draft.set([{ kind: 'move', account: body.account, parent, was: body.parent }])
  if (!editing)
    return (
      <section aria-label="Contacts">
        <h2 className="sub">Contacts</h2>
        <dl className="figures">
          <dt>Admin</dt>
          <dd className="text-break">
            <Address of={body.admin_email} />
          </dd>
          <dt>Billing contact</dt>
          <dd className="text-break">
            <Address of={body.billing_email} />
          </dd>
          {body.parent_name && (
            <>
              <dt>Parent account</dt>
              <dd>{body.parent_name}</dd>
            </>
          )}
        </dl>
        {may && (
          <>
            <Button size="sm" variant="outline-primary" onClick={() => setEditing(true)}>
              Edit
            </Button>{' '}
            <Button size="sm" variant="outline-primary" onClick={() => setBilling(true)}>
              Billing details…
            </Button>
          </>
        )}
        {billing && (
          <BillingDialog
            account={body.account}
            name={body.name}
            close={() => setBilling(false)}
            done={() => {
              setBilling(false)
              outcome(`${body.name}: billing details saved.`)
            }}
          />
        )}
      </section>
    )
  return (
    <section aria-label="Contacts">
      <h2 className="sub">Name and contacts</h2>
      <Form
        onSubmit={(event) => {
          event.preventDefault()
          void save(new FormData(event.currentTarget))
        }}
      >
        <Form.Group controlId="account-name">
          <Form.Label>Name</Form.Label>
          <Form.Control name="name" defaultValue={body.name} maxLength={200} autoFocus />
        </Form.Group>
        <Form.Group controlId="account-admin">
          <Form.Label>Admin</Form.Label>
          <Form.Control name="admin" type="email" defaultValue={body.admin_email ?? ''} />
        </Form.Group>
        <Form.Group controlId="account-billing">
          <Form.Label>Billing contact</Form.Label>
          <Form.Control name="billing" type="email" defaultValue={body.billing_email ?? ''} />
        </Form.Group>
        <div className="d-flex gap-2 align-items-center mt-2">
          <Button type="submit" variant="outline-primary">
            Save
          </Button>
          <Button variant="link" onClick={() => setEditing(false)}>
            Close
          </Button>
          {trouble && (
            <span className="over small" role="alert">
              {trouble}
            </span>
          )}
        </div>
      </Form>
      {body.parent && (
        <Form.Group controlId="account-parent" className="mt-2">
          <Form.Label>Parent account</Form.Label>
          <AccountSelect
            value={parent}
            onChange={setParent}
            only={(each) =>
              (each.kind !== 'sub-account' || each.account === body.parent || body.kind === 'sub-account') &&
              each.account !== body.account
            }
          />
          {parent !== '' && parent !== body.parent && (
            <Button size="sm" className="mt-2" onClick={move}>
              Add move to draft
            </Button>
          )}
        </Form.Group>
      )}
    </section>
  )
}

function OnHold({ account, grid }: { account: string; grid: Grid }) {
  const found = useQuery(holdsOf(account))
  if (!found.data?.length) return null
  const pool = (product: string) => grid.pools.find((each) => each.product === product)?.name ?? product
  return (
    <section aria-label="On hold">
      <h2 className="sub">On hold</h2>
      <ul className="plain">
        <First
          items
          of={found.data}
          show={(each) => (
            <li key={`${each.product} ${each.subject}`}>
              ■ {each.name ? <Link to={`/people/${encodeURIComponent(each.subject)}`}>{each.name}</Link> : each.subject}
              , {pool(each.product)} <span className="quiet small">since {dayName(dayOf(each.since))}</span>
            </li>
          )}
        />
      </ul>
    </section>
  )
}

/** A mail address; a long one goes on after its @ sign. */
function Address({ of }: { of: string | null | undefined }) {
  if (!of) return <span className="quiet">none</span>
  const at = of.indexOf('@') + 1
  return (
    <>
      {of.slice(0, at)}
      <wbr />
      {of.slice(at)}
    </>
  )
}

function Notices({ account }: { account: string }) {
  const mine = useQuery(noticesOf(account)).data?.notices.slice(0, 6) ?? []
  if (!mine.length) return null
  return (
    <section aria-label="Notices">
      <h2 className="sub">Notices</h2>
      <ul className="plain">
        {mine.map((each) => (
          <li key={each.id}>
            <span className="quiet small">{dayName(dayOf(each.at))}</span> {each.subject}
          </li>
        ))}
      </ul>
    </section>
  )
}

function Below({ body }: { body: AccountBody }) {
  if (!body.below.length) return null
  return (
    <section aria-label="Accounts below">
      <h2 className="sub">Sub-accounts</h2>
      <ul className="plain">
        <First
          items
          of={body.below}
          show={(each) => (
            <li key={each.account}>
              <Link to={`/accounts/${encodeURIComponent(each.account)}`}>{each.name}</Link>{' '}
              <span className="quiet small">{each.kind}</span>
            </li>
          )}
        />
      </ul>
    </section>
  )
}
