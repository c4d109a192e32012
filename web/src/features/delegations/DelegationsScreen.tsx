import { useQuery } from '@tanstack/react-query'
import { useDeferredValue, useMemo, useState } from 'react'
import { Button, Modal } from 'react-bootstrap'
import { Link, useSearchParams } from 'react-router'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { FindField } from '../../components/FindField'
import { useCommands, type Command } from '../../commands/registry'
import { dayName, daysBetween } from '../../domain/months'
import { whole } from '../../domain/units'
import { First } from '../../components/First'
import { TableMenu } from '../../components/ExportMenu'
import { Empty, Trouble, Wait } from '../../components/States'
import { GiveForm, type Giving } from './GiveForm'
import { limitsSaid } from './LimitsFields'
import { Past, PastDay } from './Past'
import { delegationsFound } from './queries'
import { Roles } from './Roles'
import { SecondFactorRules } from './SecondFactorRules'

export type DelegationBody = Schemas['DelegationBody']
export type DelegationsBody = Schemas['DelegationsBody']

const SOON = 14
const FIRST_GAPS = 4
/** So many the server tells at most. */
const MOST_ROWS = 500

/** Who may do what, where, and until when? */
export default function DelegationsScreen() {
  const [params, setParams] = useSearchParams()
  const find = params.get('find') ?? ''
  const setFind = (words: string) => setParams(words ? { find: words } : {}, { replace: true })
  const found = useQuery(delegationsFound(useDeferredValue(find)))
  const asksFor = params.get('email')
  const [giving, setGiving] = useState<Giving | null>(
    asksFor
      ? { change: null, email: asksFor, name: params.get('name') ?? '', account: params.get('account') ?? '' }
      : null,
  )
  const [asked, setAsked] = useState<DelegationBody | null>(null)
  const [ending, setEnding] = useState<DelegationBody | null>(null)
  const [allGaps, setAllGaps] = useState(false)
  const [past, setPast] = useState<string | null>(null)
  const { run, said } = useAction('delegations', 'log', 'people')
  const gives = found.data?.may_give ?? false
  useCommands(
    useMemo<Command[]>(
      () =>
        gives
          ? [
              {
                id: 'let-run',
                name: 'New delegation',
                keys: 'n',
                group: 'Delegations',
                run: () => setGiving({ change: null }),
              },
            ]
          : [],
      [gives],
    ),
  )
  if (found.isError) return <Trouble page="Delegations" error={found.error} again={() => void found.refetch()} />
  if (!found.data) return <Wait what="the delegations" />
  const body = found.data
  const rows = body.delegations
  const shallowest = Math.min(...rows.map((each) => each.depth))
  const soon = body.ending
  const count = find ? rows.length : body.count
  const more = rows.length >= MOST_ROWS ? ', the first are shown' : ''
  const close = () => {
    setGiving(null)
    if (asksFor) setFind('')
  }
  const after = (message: string) => run(() => Promise.resolve(message))
  const attempt = (work: () => Promise<unknown>, message: string) => run(() => work().then(() => message))
  const path = (each: DelegationBody) => ({ params: { path: { delegation_id: each.id } } })
  const tell = (each: DelegationBody) =>
    attempt(
      () => take(api.POST('/api/delegations/{delegation_id}/tell', path(each))),
      `${each.name} is told again by mail.`,
    )
  const endKeys = (each: DelegationBody) =>
    attempt(
      () => take(api.POST('/api/delegations/{delegation_id}/keys/end', path(each))),
      `The keys of ${each.name} work no more.`,
    )
  return (
    <>
      <div className="bar">
        <h1>Delegations</h1>
        <FindField
          label="Find a person or an account"
          group="Delegations"
          find={find}
          onFind={setFind}
          width={250}
          placeholder="Find a person or an account  /"
        />
        <span className="quiet small" role="status">
          {said?.text ||
            `${whole(count)} ${count === 1 ? 'delegation' : 'delegations'}${more}${soon ? `, ${soon} ${soon === 1 ? 'lapses' : 'lapse'} within ${SOON} days` : ''}${body.gap_count ? `, ${whole(body.gap_count)} ${body.gap_count === 1 ? 'account' : 'accounts'} without an admin` : ''}`}
        </span>
        <span className="grow" />
        <TableMenu name="delegations" rows={() => forFile(rows)} />
        {body.may_give && <Button onClick={() => setGiving({ change: null })}>New delegation…</Button>}
      </div>
      <div className="scroll account" role="region" aria-label="Delegations" tabIndex={0}>
        <div className="columns">
          <div>
            {rows.length === 0 ? (
              <Empty title="No one found">{find ? 'Change the search.' : 'No delegations yet.'}</Empty>
            ) : (
              <div className="sideways">
                <table className="ledger" aria-label="Delegations by account">
                  <thead>
                    <tr>
                      <th>Account and person</th>
                      <th>Role</th>
                      <th>Until</th>
                      <th>
                        <span className="visually-hidden">Do</span>
                      </th>
                    </tr>
                  </thead>
                  <tbody>
                    <First
                      of={rows}
                      row={4}
                      show={(each) => (
                        <Row
                          key={each.id}
                          each={each}
                          first={rows[rows.indexOf(each) - 1]?.account !== each.account}
                          depth={each.depth - shallowest}
                          body={body}
                          ask={() => setAsked(each)}
                          change={() => setGiving({ change: each })}
                          end={() => setEnding(each)}
                          tell={() => void tell(each)}
                          endKeys={() => void endKeys(each)}
                        />
                      )}
                    />
                  </tbody>
                </table>
              </div>
            )}
          </div>
          <aside>
            {body.gap_count > 0 && (
              <section aria-label="Accounts without an admin">
                <h2 className="sub">No admin</h2>
                <ul className="plain apart">
                  {(allGaps ? body.gaps : body.gaps.slice(0, FIRST_GAPS)).map((each) => (
                    <li key={each.account}>
                      <Link to={`/accounts/${encodeURIComponent(each.account)}`}>{each.name}</Link>{' '}
                      {body.may_give && (
                        <button
                          type="button"
                          className="btn btn-link btn-sm p-0 d-block mw-100 text-truncate"
                          aria-label={`${asks(each)}: ${each.name}`}
                          onClick={() =>
                            setGiving({ change: null, account: each.account, email: each.admin_email ?? '' })
                          }
                        >
                          {asks(each)}
                        </button>
                      )}
                    </li>
                  ))}
                  {!allGaps && body.gap_count > FIRST_GAPS && (
                    <li>
                      <button type="button" className="btn btn-link btn-sm p-0" onClick={() => setAllGaps(true)}>
                        and {whole(body.gap_count - FIRST_GAPS)} more
                      </button>
                    </li>
                  )}
                  {allGaps && body.gap_count > body.gaps.length && (
                    <li className="quiet">and {whole(body.gap_count - body.gaps.length)} more</li>
                  )}
                </ul>
              </section>
            )}
            <Roles body={body} after={after} />
            <SecondFactorRules body={body} attempt={attempt} />
            <PastDay today={body.today} ask={setPast} />
          </aside>
        </div>
      </div>
      {giving && (
        <GiveForm
          giving={giving}
          body={body}
          close={close}
          done={(message) => {
            close()
            void after(message)
          }}
        />
      )}
      {past && <Past day={past} close={() => setPast(null)} />}
      {asked && <Can of={asked} close={() => setAsked(null)} />}
      {ending && (
        <EndForm
          of={ending}
          close={() => setEnding(null)}
          done={() => {
            setEnding(null)
            void after(`${ending.name} runs ${ending.account_name} no more.`)
          }}
        />
      )}
    </>
  )
}

/** What is offered for an account that nobody runs. */
function asks(gap: Schemas['GapBody']): string {
  return gap.admin_email ? `Delegate to ${gap.admin_email}` : 'Delegate'
}

/** In how many days a delegation lapses, where that is soon. */
function lapses(each: DelegationBody, today: string): number | null {
  const left = each.last_day ? daysBetween(today, each.last_day) : null
  return left !== null && left <= SOON ? left : null
}

interface RowProps {
  each: DelegationBody
  first: boolean
  depth: number
  body: DelegationsBody
  ask: () => void
  change: () => void
  end: () => void
  tell: () => void
  endKeys: () => void
}

function Row({ each, first, depth, body, ask, change, end, tell, endKeys }: RowProps) {
  const left = lapses(each, body.today)
  const begins = each.first_day && each.first_day > body.today
  const over = each.last_day && each.last_day < body.today
  const link = (label: string, act: () => void, of = `${label} ${each.name}`) => (
    <button type="button" className="btn btn-link btn-sm p-0 me-2" aria-label={of} onClick={act}>
      {label}
    </button>
  )
  const row = (
    <tr>
      <td style={{ paddingLeft: 30 + 16 * depth }}>
        <b>{each.name}</b> {each.own && <span className="tag">you</span>}
        <div className="quiet small">{each.email}</div>
      </td>
      <td className="text-nowrap">
        {each.role_name}
        {limitedTo(each).map((said) => (
          <div key={said} className="quiet small text-wrap">
            {said}
          </div>
        ))}
      </td>
      <td className="text-nowrap">
        {begins && <div className="near">from {dayName(each.first_day ?? '')}</div>}
        {each.last_day ? (
          <span className={left !== null ? 'near' : undefined}>
            {over ? 'ended ' : ''}
            {dayName(each.last_day)}
            {left !== null && !over && (
              <div className="small">{left === 0 ? 'today' : `in ${left} ${left === 1 ? 'day' : 'days'}`}</div>
            )}
          </span>
        ) : (
          <span className="quiet">open</span>
        )}
      </td>
      <td className="text-nowrap">
        {link('Rights', ask, `Rights of ${each.name}`)}
        {body.may_give && !each.own && (
          <>
            {link('Notify again', tell)}
            {each.keys > 0 && link('End keys', endKeys, `End the keys of ${each.name}`)}
            {link('Change', change)}
            {link('End', end)}
          </>
        )}
      </td>
    </tr>
  )
  if (!first) return row
  return (
    <>
      <tr className="heads">
        <th scope="rowgroup" colSpan={4} style={{ paddingLeft: 14 + 16 * depth }}>
          <Link to={`/accounts/${encodeURIComponent(each.account)}`}>{each.account_name}</Link>
        </th>
      </tr>
      {row}
    </>
  )
}

/** What of a delegation limits it, beside its role. */
function limitedTo(each: DelegationBody): string[] {
  return [
    each.people_of ? `for the people of ${each.people_of.split('/')[1]}` : '',
    each.passes_on ? 'may delegate further' : '',
    limitsSaid(each.limits),
    each.keys > 0 ? `${each.keys} ${each.keys === 1 ? 'key' : 'keys'} for programs` : '',
  ].filter((said) => said !== '')
}

function forFile(rows: DelegationBody[]): string[][] {
  return [
    ['account', 'account_name', 'person', 'email', 'role', 'limited_to', 'first_day', 'last_day'],
    ...rows.map((each) => [
      ...[each.account, each.account_name, each.name, each.email, each.role_name, limitedTo(each).join('; ')],
      ...[each.first_day ?? '', each.last_day ?? ''],
    ]),
  ]
}

/** What somebody can do by a delegation, each with the reason. */
function Can({ of, close }: { of: DelegationBody; close: () => void }) {
  const found = useQuery({
    queryKey: ['delegations', 'can', of.id],
    queryFn: () =>
      take(api.GET('/api/delegations/{delegation_id}/can', { params: { path: { delegation_id: of.id } } })),
  })
  const limits = limitsSaid(of.limits)
  return (
    <Modal show onHide={close} animation={false} aria-labelledby="can-title">
      <Modal.Header closeButton>
        <Modal.Title as="h2" id="can-title">
          What {of.name} can do in {of.account_name}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        {found.isError ? (
          <Trouble error={found.error} />
        ) : !found.data ? (
          <Wait what="the permissions" />
        ) : (
          <>
            {limits && <p className="mb-2">Limited: {limits}.</p>}
            <table className="ledger tight" aria-label="Permissions">
              <tbody>
                {found.data.map((each) => (
                  <tr key={each.permission} className={each.may ? undefined : 'quiet'}>
                    <td>
                      <span aria-hidden="true">{each.may ? '✓' : '–'}</span>
                      <span className="visually-hidden">{each.may ? 'Yes' : 'No'}</span>
                    </td>
                    <td>{each.words}</td>
                    <td className="quiet small">{each.why}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </>
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

function EndForm({ of, close, done }: { of: DelegationBody; close: () => void; done: () => void }) {
  const { run, error } = useAction()
  const end = async () => {
    await run(async () => {
      await take(api.POST('/api/delegations/{delegation_id}/end', { params: { path: { delegation_id: of.id } } }))
      done()
    })
  }
  return (
    <Modal show onHide={close} animation={false} aria-labelledby="end-title">
      <Modal.Header closeButton>
        <Modal.Title as="h2" id="end-title">
          End what {of.name} may do in {of.account_name}?
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        Their sessions end at once; drafts of theirs stay. What they hold as a person there stays too.
        {error !== null && <Trouble error={error} />}
      </Modal.Body>
      <Modal.Footer>
        <Button variant="outline-primary" onClick={close}>
          Cancel
        </Button>
        <Button onClick={() => void end()} autoFocus>
          End it
        </Button>
      </Modal.Footer>
    </Modal>
  )
}
