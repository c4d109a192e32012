import { keepPreviousData, useInfiniteQuery, useQuery, useQueryClient } from '@tanstack/react-query'
import { useDeferredValue, useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useSearchParams } from 'react-router'
import { whole } from '../../domain/units'
import { AccountSelect } from '../../components/AccountSelect'
import { ExportMenu } from '../../components/ExportMenu'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { me, useCan } from '../../api/queries'
import { Empty, Trouble, Wait } from '../../components/States'
import { EntitlementsEditor, Touched } from './EntitlementsEditor'
import { MembersField } from './MembersField'
import { PeopleTabs } from './PeopleTabs'
import { groupNames, groupsFound, oneGroup, type GroupBody } from './queries'
import { RuleBuilder } from './RuleBuilder'
import { StorageLimits } from './Storage'

type Wanted = Schemas['GroupWanted']

/** Who belongs together, by hand or by a rule? */
export default function GroupsScreen() {
  const [find, setFind] = useState('')
  const found = useInfiniteQuery(groupsFound(useDeferredValue(find)))
  const who = useQuery(me).data
  const changes = useCan('groups.change')
  const [params, setParams] = useSearchParams()
  const queries = useQueryClient()
  const { run, trouble } = useAction('groups')
  const first = found.data?.pages[0]?.groups[0]
  const key = params.get('group') ?? (first ? nameOf(first) : null)
  const [account = '', code = ''] = key?.split('/') ?? []
  const named = useQuery({ ...oneGroup(account, code), enabled: code !== '' })
  if (found.isError) return <Trouble page="Groups" error={found.error} again={() => void found.refetch()} />
  if (!found.data) return <Wait what="the groups" />
  const groups = found.data.pages.flatMap((each) => each.groups)
  const total = found.data.pages[0]?.total ?? 0
  const chosen =
    key === 'new' ? null : (named.data ?? (params.has('group') && !named.isError ? null : (groups[0] ?? null)))
  const choose = (group: string) => setParams({ group }, { replace: true })
  const shift = async (group: GroupBody, by: -1 | 1) => {
    const names = await queries.fetchQuery(groupNames)
    const codes = names.filter((each) => each.account === group.account).map((each) => each.code)
    const at = codes.indexOf(group.code)
    const [one, other] = [codes[at], codes[at + by]]
    if (one === undefined || other === undefined) return
    codes[at] = other
    codes[at + by] = one
    await run(async () => {
      await take(
        api.POST('/api/groups/{account}/order', { params: { path: { account: group.account } }, body: { codes } }),
      )
    })
  }
  return (
    <>
      <div className="bar tightbar">
        <h1>Groups</h1>
        <PeopleTabs at="groups" />
        <span className="grow" />
        {trouble && (
          <span className="over small" role="alert">
            {trouble}
          </span>
        )}
        {total > 0 && <ExportMenu path="/api/groups/export" params={{ find: find || undefined }} />}
        {changes && <Button onClick={() => choose('new')}>New group</Button>}
      </div>
      <div className="pools groups">
        <nav className="poollist" aria-label="Groups">
          {(total > FEW || find) && (
            <Form.Control
              size="sm"
              className="findgroup"
              type="search"
              value={find}
              placeholder={`Find in ${whole(total)} groups`}
              aria-label="Find a group"
              onChange={(event) => setFind(event.target.value)}
            />
          )}
          {groups.map((each, at) => (
            <div key={nameOf(each)}>
              {groups[at - 1]?.account !== each.account && <h2 className="section">{each.account_name}</h2>}
              <button
                type="button"
                aria-current={chosen !== null && nameOf(each) === nameOf(chosen)}
                onClick={() => choose(nameOf(each))}
                onKeyDown={(event) => {
                  if (event.altKey && (event.key === 'ArrowUp' || event.key === 'ArrowDown')) {
                    event.preventDefault()
                    void shift(each, event.key === 'ArrowUp' ? -1 : 1)
                  }
                }}
                title="Alt ↑ and Alt ↓ change the precedence"
              >
                <b>{each.name}</b>
                <span className="t">
                  <span className="quiet">
                    {each.rule ? 'by a rule' : 'by hand'}
                    {each.inside.length > 0 && `, with ${each.inside.join(', ')}`}
                  </span>
                  <b>
                    {whole(each.count)} {each.count === 1 ? 'person' : 'people'}
                  </b>
                </span>
              </button>
            </div>
          ))}
          {found.hasNextPage && (
            <Button
              size="sm"
              variant="outline-primary"
              disabled={found.isFetching}
              onClick={() => void found.fetchNextPage()}
            >
              Show more ({whole(total - groups.length)} left)
            </Button>
          )}
          {total === 0 && !find && <Empty title="No groups yet">Create one, by hand or by a rule.</Empty>}
          {total === 0 && find && <p className="quiet small">No group has these words.</p>}
        </nav>
        {(chosen || key === 'new') && (
          <Editor
            key={chosen ? nameOf(chosen) : 'new'}
            group={chosen}
            account={who?.running.account ?? ''}
            shift={shift}
            chosen={choose}
          />
        )}
      </div>
    </>
  )
}

/** So many are looked through without help. */
const FEW = 30

function nameOf(group: { account: string; code: string }): string {
  return `${group.account}/${group.code}`
}

function Editor({
  group,
  account,
  shift,
  chosen,
}: {
  group: GroupBody | null
  account: string
  shift: (group: GroupBody, by: -1 | 1) => Promise<void>
  chosen: (name: string) => void
}) {
  const [wanted, setWanted] = useState<Wanted>({
    account: group?.account ?? account,
    code: group?.code ?? '',
    name: group?.name ?? '',
    rule: group?.rule ?? '',
    members: group?.members ?? [],
    precedence: group?.precedence ?? null,
  })
  const { run, said } = useAction('groups', 'people', 'entitlements', 'allocations', 'log')
  const full: Wanted = {
    ...wanted,
    rule: wanted.rule?.trim() || null,
    members: wanted.members ?? [],
    code: wanted.code || codeOf(wanted.name),
  }
  const asked = useDeferredValue(JSON.stringify(full))
  const { name, code } = JSON.parse(asked) as Wanted
  const looked = useQuery({
    queryKey: ['groups', 'preview', asked],
    queryFn: () => take(api.POST('/api/groups/preview', { body: JSON.parse(asked) as Wanted })),
    enabled: name.trim() !== '' && code !== '',
    retry: false,
    placeholderData: keepPreviousData,
    gcTime: 0,
  })
  const dirty =
    !group ||
    JSON.stringify(full) !==
      JSON.stringify({
        account: group.account,
        code: group.code,
        name: group.name,
        rule: group.rule,
        members: group.members,
        precedence: group.precedence,
      })
  const keep = () =>
    run(async () => {
      await take(api.PUT('/api/groups', { body: full }))
      chosen(nameOf(full))
      return 'Saved.'
    })
  const forget = () =>
    run(async () => {
      await take(
        api.DELETE('/api/groups/{account}/{code}', { params: { path: { account: full.account, code: full.code } } }),
      )
    })
  const [sure, setSure] = useState(false)
  const kept = group !== null && group.source !== 'here'
  const ruleTrouble = looked.isError ? looked.error.message : ''
  return (
    <div className="poolside groupside" role="region" aria-label={group?.name ?? 'New group'} tabIndex={0}>
      <Form
        onSubmit={(event) => {
          event.preventDefault()
          void keep()
        }}
      >
        <div className="lotform">
          <Form.Group controlId="group-name">
            <Form.Label>Name</Form.Label>
            <Form.Control
              value={wanted.name}
              maxLength={200}
              autoFocus={!group}
              disabled={kept}
              onChange={(event) => setWanted({ ...wanted, name: event.target.value })}
            />
          </Form.Group>
          <Form.Group controlId="group-code">
            <Form.Label>Code</Form.Label>
            <Form.Control
              value={full.code}
              maxLength={64}
              disabled={group !== null}
              onChange={(event) => setWanted({ ...wanted, code: event.target.value })}
            />
          </Form.Group>
          <Form.Group controlId="group-account">
            <Form.Label>Of the people of</Form.Label>
            <AccountSelect
              value={wanted.account}
              disabled={group !== null}
              onChange={(chosen) => setWanted({ ...wanted, account: chosen })}
            />
          </Form.Group>
          <Form.Group controlId="group-precedence">
            <Form.Label>
              Precedence <span className="quiet">(the smallest counts first)</span>
            </Form.Label>
            <div className="d-flex gap-2">
              <Form.Control
                value={wanted.precedence ?? ''}
                inputMode="numeric"
                disabled={kept}
                onChange={(event) =>
                  setWanted({
                    ...wanted,
                    precedence: /^\d{1,6}$/.test(event.target.value) ? Number(event.target.value) : null,
                  })
                }
              />
              {group && (
                <>
                  <Button variant="outline-primary" aria-label="Earlier" onClick={() => void shift(group, -1)}>
                    ↑
                  </Button>
                  <Button variant="outline-primary" aria-label="Later" onClick={() => void shift(group, 1)}>
                    ↓
                  </Button>
                </>
              )}
            </div>
          </Form.Group>
        </div>
        <RuleBuilder
          rule={wanted.rule ?? ''}
          set={(rule) => setWanted({ ...wanted, rule })}
          trouble={ruleTrouble}
          disabled={kept}
        />
        <MembersField
          members={full.members ?? []}
          named={group?.named ?? {}}
          account={wanted.account}
          disabled={kept}
          onChange={(members) => setWanted({ ...wanted, members })}
        />
        <div className="d-flex gap-2 align-items-center mt-2">
          {kept ? (
            <span className="quiet">Maintained by {group.source}; changed there.</span>
          ) : (
            <Button type="submit" disabled={!dirty || looked.isError || !full.name.trim()}>
              {group ? 'Save' : 'Create group'}
            </Button>
          )}
          {group &&
            !kept &&
            (sure ? (
              <>
                <span>No one loses an entitlement through this.</span>
                <Button variant="outline-primary" onClick={() => void forget()}>
                  Delete it
                </Button>
                <Button variant="link" onClick={() => setSure(false)}>
                  Keep it
                </Button>
              </>
            ) : (
              <Button variant="link" onClick={() => setSure(true)}>
                Delete…
              </Button>
            ))}
          {said && (
            <span className={said.bad ? 'over' : 'good'} role={said.bad ? 'alert' : 'status'}>
              {said.text}
            </span>
          )}
        </div>
      </Form>
      {group && (
        <div className="mt-3" style={{ maxWidth: 760 }}>
          <EntitlementsEditor account={group.account} group={group.code} />
          <StorageLimits account={group.account} group={group.code} />
        </div>
      )}
      {looked.data && !looked.isError && (
        <section aria-label="Members" className="mt-3">
          <h3>
            {looked.data.count} {looked.data.count === 1 ? 'person' : 'people'} {dirty ? 'would be' : 'are'} in it
            {group && dirty && (looked.data.come_count > 0 || looked.data.leave_count > 0) && (
              <>
                : <span className="good">{looked.data.come_count} come</span>,{' '}
                <span className="over">{looked.data.leave_count} leave</span>
              </>
            )}
          </h3>
          {dirty && group && looked.data.leave.length > 0 && (
            <p className="small mb-1">
              <span className="over">Leave:</span>{' '}
              {looked.data.leave
                .slice(0, 20)
                .map((each) => each.name)
                .join(', ')}
              {looked.data.leave_count > 20 && ' …'}
            </p>
          )}
          {dirty && group && looked.data.come.length > 0 && (
            <p className="small mb-1">
              <span className="good">Come:</span>{' '}
              {looked.data.come
                .slice(0, 20)
                .map((each) => each.name)
                .join(', ')}
              {looked.data.come_count > 20 && ' …'}
            </p>
          )}
          {looked.data.seats && dirty && <Touched laid={looked.data.seats} />}
          <ul className="members">
            {looked.data.people.map((each) => (
              <li key={each.username}>
                <Link to={`/people/${encodeURIComponent(each.username)}`}>{each.name}</Link>
                {each.status !== 'active' && <span className="quiet small"> {each.status}</span>}
              </li>
            ))}
          </ul>
          {looked.data.count > looked.data.people.length && (
            <Link to={`/people?group=${encodeURIComponent(nameOf(full))}`}>All {looked.data.count} of them</Link>
          )}
        </section>
      )}
    </div>
  )
}

function codeOf(name: string): string {
  return name
    .normalize('NFD')
    .replace(/[\u0300-\u036f]/g, '')
    .toUpperCase()
    .replace(/[^A-Z0-9]+/g, '-')
    .replace(/^-+|-+$/g, '')
    .slice(0, 64)
}
