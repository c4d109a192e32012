import { useQuery, useQueryClient } from '@tanstack/react-query'
import { Sure } from '../../components/Sure'
import { whole } from '../../domain/units'
import { FindField } from '../../components/FindField'
import { useKept } from '../../components/useKept'
import { useMemo, useState } from 'react'
import { Button, Dropdown, Form } from 'react-bootstrap'
import { Link, useNavigate } from 'react-router'
import { api, take } from '../../api/client'
import { me, useCan, useOnlyAccount } from '../../api/queries'
import { LIST_KEYS } from '../../commands/listKeys'
import { useCommands, type Command } from '../../commands/registry'
import { dayName, dayOf } from '../../domain/months'
import { useAddress } from '../../components/address'
import { ExportMenu } from '../../components/ExportMenu'
import { PagedGrid } from '../../components/PagedGrid'
import { Empty, Trouble, Wait } from '../../components/States'
import type { Column, Sorting } from '../../components/VirtualTable'
import { useNames } from '../drafts/names'
import { BulkActions } from './BulkActions'
import { AddPerson } from './AddPerson'
import { given, inWords, readFilter, SORTS, type Sort } from './peopleFilter'
import { Filters } from './Filters'
import { PeopleTabs } from './PeopleTabs'
import { usePeople, views as viewsQuery, type PersonRow } from './queries'
import { storageWords } from './Storage'
import { STATUS } from './statusMarks'

/** What became of an invitation, where somebody has not joined. */
const INVITED = { 'not sent': 'invite not sent', open: 'invited', expired: 'invite expired' }
const SHOWN = ['account', 'status', 'title', 'products', 'groups', 'last_seen']

/** Who has what, and who does not need it? */
export default function PeopleScreen() {
  const [params, set, replace] = useAddress()
  const go = useNavigate()
  const names = useNames()
  const adds = useCan('people.change')
  const asked = useMemo(() => readFilter(params), [params])
  const askedSort = params.get('sort')
  const sorting: Sorting = {
    key: SORTS.find((each) => each === askedSort) ?? 'name',
    down: params.get('down') === 'yes',
  }
  const found = usePeople(asked, sorting.key as Sort, sorting.down)
  const [marked, setMarked] = useKept<Map<string, string>>('marked', () => new Map())
  const [adding, setAdding] = useState(new URLSearchParams(location.search).get('new') === 'person')
  useCommands(
    useMemo<Command[]>(
      () => [
        ...(adds
          ? [
              {
                id: 'bring-in',
                name: 'Import people from a file',
                keys: 'b',
                group: 'People',
                run: () => void go('/people-import'),
              },
              { id: 'add-person', name: 'Add a person', keys: 'n', group: 'People', run: () => setAdding(true) },
            ]
          : []),
      ],
      [go, adds],
    ),
  )
  const asColumns = params.get('columns')
  const chosen = useMemo(() => asColumns?.split(',').filter(Boolean) ?? SHOWN, [asColumns])
  const columns = useMemo(
    () => COLUMNS(names.product).filter((each) => each.key === 'name' || chosen.includes(each.key)),
    [names.product, chosen],
  )
  const words = inWords(asked, { account: names.account, product: names.product })
  const mark = (from: number, to: number, on: boolean) =>
    setMarked((now) => {
      const next = new Map(now)
      for (let place = from; place <= to; place++) {
        const row = found.rowAt(place)
        if (row && on) next.set(row.username, row.name)
        if (row && !on) next.delete(row.username)
      }
      return next
    })
  const only = useOnlyAccount()
  useCommands(LIST_KEYS)
  const [everybody, setEverybody] = useKept('everybody', () => false)
  const markAll = (on: boolean) => {
    setEverybody(on)
    setMarked(new Map())
  }
  const isMarked = (row: PersonRow) => everybody || marked.has(row.username)
  const count = everybody ? (found.total ?? 0) : marked.size
  return (
    <>
      <div className="bar tightbar">
        <h1>People</h1>
        <PeopleTabs at="people" />
        <FindField label="Find a person" group="People" find={asked.find} onFind={(find) => set({ find })} />
        <Filters asked={asked} set={set} />
        <Columns chosen={chosen} set={(value) => set({ columns: value })} />
        <Views query={params.toString()} open={replace} />
        <span className="quiet small" role="status">
          {found.total === undefined
            ? ''
            : !found.counted
              ? 'counting…'
              : `${whole(found.total)} ${found.total === 1 ? 'person' : 'people'}`}
        </span>
        <span className="grow" />
        {adds && (
          <Link className="btn btn-outline-primary" to="/people-import">
            Import…
          </Link>
        )}
        {adds && <Button onClick={() => setAdding(true)}>Add a person</Button>}
        <ExportMenu
          path="/api/people/export"
          params={{ ...given(asked), sort: sorting.key, down: String(sorting.down) }}
        />
      </div>
      {words.length > 0 && (
        <div className="chips" role="group" aria-label="Active filters">
          {words.map((each) => (
            <button
              type="button"
              key={each.name}
              className="chip"
              onClick={() => set({ [each.name]: null })}
              aria-label={`Remove filter: ${each.says}`}
            >
              {each.says} <span aria-hidden="true">×</span>
            </button>
          ))}
        </div>
      )}
      {found.error ? (
        <Trouble error={found.error} again={() => void found.refetch()} />
      ) : found.total === undefined ? (
        <Wait what="the people" />
      ) : found.total === 0 ? (
        <Empty title="No one found">
          {words.length || asked.find
            ? 'Clear a filter or change the search.'
            : 'Add the first person, or import people.'}
        </Empty>
      ) : (
        <PagedGrid
          total={found.total}
          rowAt={found.rowAt}
          onShown={found.onShown}
          columns={columns}
          rowKey={(row) => row.username}
          label="People"
          sorting={sorting}
          onSort={(next) => set({ sort: next.key, down: next.down ? 'yes' : null })}
          isMarked={isMarked}
          mark={(from, to, on) => {
            setEverybody(false)
            mark(from, to, on)
          }}
          markAll={markAll}
          open={(row) => void go(`/people/${encodeURIComponent(row.username)}`)}
        />
      )}
      {count > 0 && (
        <BulkActions
          who={
            everybody
              ? { ...asked, usernames: null }
              : { usernames: [...marked.keys()], status: asked.status === 'removed' ? 'removed' : null }
          }
          count={count}
          removed={asked.status === 'removed'}
          {...(!everybody && { names: [...marked.values()] })}
          done={() => markAll(false)}
        />
      )}
      {adding && <AddPerson account={asked.account ?? only} close={() => setAdding(false)} />}
    </>
  )
}

function COLUMNS(product: (code: string) => string): Column<PersonRow>[] {
  return [
    {
      key: 'name',
      title: 'Name',
      width: 'minmax(170px, 1.2fr)',
      sort: true,
      cell: (row) => (
        <>
          <Link to={`/people/${encodeURIComponent(row.username)}`} tabIndex={-1}>
            {row.name}
          </Link>
          {row.protected && (
            <span className="tag" title="Protected: held last, never reclaimed automatically">
              protected
            </span>
          )}
          {row.admin && <span className="tag">admin</span>}
        </>
      ),
    },
    { key: 'username', title: 'Username', width: '150px', sort: true, cell: (row) => row.username },
    {
      key: 'email',
      title: 'E-mail',
      width: 'minmax(190px, 1.2fr)',
      cell: (row) => row.email ?? <span className="quiet">–</span>,
    },
    {
      key: 'account',
      title: 'Account',
      width: 'minmax(150px, 1.7fr)',
      sort: true,
      cell: (row) => <span title={row.account_name}>{row.account_name}</span>,
    },
    {
      key: 'status',
      title: 'Status',
      width: '132px',
      sort: true,
      cell: (row) => (
        <span className={STATUS[row.status]?.tone}>
          {STATUS[row.status]?.mark} {row.invitation ? INVITED[row.invitation] : row.status}
        </span>
      ),
    },
    {
      key: 'title',
      title: 'Title',
      width: '120px',
      sort: true,
      cell: (row) => row.title ?? <span className="quiet">–</span>,
    },
    {
      key: 'department',
      title: 'Department',
      width: '130px',
      sort: true,
      cell: (row) => row.department ?? <span className="quiet">–</span>,
    },
    {
      key: 'products',
      title: 'Products',
      width: 'minmax(170px, 1.5fr)',
      cell: (row) => (
        <span title={row.products.map(product).join(', ')}>
          {row.products.length ? row.products.map(product).join(', ') : <span className="quiet">none</span>}
        </span>
      ),
    },
    {
      key: 'groups',
      title: 'Groups',
      width: 'minmax(110px, 1fr)',
      cell: (row) => (
        <span title={row.groups.join(', ')}>
          {row.groups.length ? row.groups.join(', ') : <span className="quiet">none</span>}
        </span>
      ),
    },
    {
      key: 'storage',
      title: 'Personal storage',
      width: '170px',
      cell: (row) =>
        row.storage.length ? (
          <span
            title={row.storage.map((each) => `${each.product_name}: ${storageWords(each)}, ${each.source}`).join('\n')}
            className={
              row.storage.some((each) => each.limit !== null && Number(each.used) > Number(each.limit))
                ? 'over'
                : undefined
            }
          >
            {row.storage.map(storageWords).join('; ')}
          </span>
        ) : (
          <span className="quiet">no limit</span>
        ),
    },
    {
      key: 'last_seen',
      title: 'Last seen',
      width: '110px',
      sort: true,
      cell: (row) => (row.last_seen_at ? dayName(dayOf(row.last_seen_at)) : <span className="near">never</span>),
    },
    { key: 'source', title: 'Maintained by', width: '90px', cell: (row) => row.source },
  ]
}

function Columns({ chosen, set }: { chosen: string[]; set: (value: string) => void }) {
  return (
    <Dropdown autoClose="outside">
      <Dropdown.Toggle variant="link" id="people-columns" className="p-0">
        Columns
      </Dropdown.Toggle>
      <Dropdown.Menu>
        {COLUMNS((code) => code)
          .filter((each) => each.key !== 'name')
          .map((each) => (
            <Form.Check
              key={each.key}
              id={`column-${each.key}`}
              className="mx-3"
              label={each.title}
              checked={chosen.includes(each.key)}
              onChange={(event) =>
                set(
                  (event.target.checked ? [...chosen, each.key] : chosen.filter((key) => key !== each.key)).join(',') ||
                    ',',
                )
              }
            />
          ))}
      </Dropdown.Menu>
    </Dropdown>
  )
}

function Views({ query, open }: { query: string; open: (query: string) => void }) {
  const queries = useQueryClient()
  const top = useQuery(me).data?.running.account ?? ''
  // What is listed stays while the account one runs becomes known, and the focus on it.
  const found = useQuery({
    ...viewsQuery,
    queryKey: [...viewsQuery.queryKey, top],
    placeholderData: (before) => before,
  })
  const [name, setName] = useState('')
  const fresh = () => queries.invalidateQueries({ queryKey: viewsQuery.queryKey })
  const keep = async () => {
    await take(api.PUT('/api/people/views', { body: { name: name.trim(), query } }))
    setName('')
    await fresh()
  }
  const forget = async (each: string) => {
    await take(api.DELETE('/api/people/views/{name}', { params: { path: { name: each } } }))
    await fresh()
  }
  return (
    <Dropdown autoClose="outside">
      <Dropdown.Toggle variant="link" id="people-views" className="p-0">
        Views
      </Dropdown.Toggle>
      <Dropdown.Menu style={{ minWidth: 250 }}>
        {found.data?.map((each) => (
          <div className="d-flex" key={each.name}>
            <Dropdown.Item as="button" onClick={() => open(each.query)}>
              {each.name}
            </Dropdown.Item>
            <span className="px-2">
              <Sure act="Delete" of={`the view ${each.name}`} means="" run={() => void forget(each.name)} inLine />
            </span>
          </div>
        ))}
        {found.data && found.data.length > 0 && <Dropdown.Divider />}
        <Form
          className="px-3 d-flex gap-2"
          onSubmit={(event) => {
            event.preventDefault()
            if (name.trim()) void keep()
          }}
        >
          <Form.Control
            aria-label="Name of this view"
            placeholder="Save this view as"
            value={name}
            maxLength={100}
            onChange={(event) => setName(event.target.value)}
          />
          <Button type="submit" variant="outline-primary" disabled={!name.trim()}>
            Keep
          </Button>
        </Form>
      </Dropdown.Menu>
    </Dropdown>
  )
}
