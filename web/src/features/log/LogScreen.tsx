import { keepPreviousData, useInfiniteQuery, useQueries, useQuery } from '@tanstack/react-query'
import { whole } from '../../domain/units'
import { useDeferredValue, useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { accountsFound, actsPage, entriesOf, logDays, type Act, type SaidEntry, type Sought } from '../../api/queries'
import { instantName } from '../../domain/months'
import { FindField } from '../../components/FindField'
import { AccountLink } from '../../components/AccountLink'
import { useAddress } from '../../components/address'
import { ExportMenu } from '../../components/ExportMenu'
import { Empty, Trouble, Wait } from '../../components/States'
import { LogTabs } from './LogTabs'
import { actorName } from './actors'
import { DayStrip } from './DayStrip'
import { VirtualTable, type Column } from '../../components/VirtualTable'
import { DayField } from '../../components/DayField'

type Row = { kind: 'act'; act: Act } | { kind: 'entry'; entry: SaidEntry; act: Act } | { kind: 'wait'; act: Act }

const columnsOf = (opened: ReadonlySet<number>, toggle: (act: Act) => void): Column<Row>[] => [
  {
    key: 'at',
    title: 'When',
    width: '148px',
    cell: (row) => (row.kind === 'act' ? <span title={row.act.at}>{instantName(row.act.at)}</span> : null),
  },
  {
    key: 'actor',
    title: 'Who',
    width: '118px',
    cell: (row) => (row.kind === 'act' ? actorName(row.act.actor) : null),
  },
  {
    key: 'what',
    title: 'What',
    width: 'minmax(320px, 4fr)',
    cell: (row) => {
      if (row.kind === 'wait') return <span className="quiet ms-4">Loading…</span>
      const said = row.kind === 'act' ? row.act : row.entry
      return (
        <span
          title={[said.sentence, said.detail].filter(Boolean).join(': ')}
          className={row.kind === 'act' ? '' : 'ms-4'}
        >
          {row.kind === 'act' && row.act.entries > 1 && (
            <button
              type="button"
              className="opens"
              aria-expanded={opened.has(row.act.newest)}
              aria-label={`${whole(row.act.entries)} entries: ${row.act.sentence}`}
              onClick={() => toggle(row.act)}
            >
              {opened.has(row.act.newest) ? '▾' : '▸'} {whole(row.act.entries)}
            </button>
          )}
          {said.sentence} {said.detail && <span className="quiet">{said.detail}</span>}
        </span>
      )
    },
  },
  {
    key: 'account',
    title: 'Account',
    width: 'minmax(150px, 1.2fr)',
    cell: (row) => {
      if (row.kind === 'entry') return row.entry.account_name
      const [first] = row.act.accounts
      if (row.kind === 'wait' || !first) return row.kind === 'act' ? <span className="quiet">–</span> : null
      const more = row.act.accounts.length - 1 + row.act.more_accounts
      return (
        <span title={row.act.accounts.map((each) => each.name).join(', ')}>
          <AccountLink account={first.account}>{first.name}</AccountLink>
          {more > 0 && <span className="quiet"> and {more} more</span>}
        </span>
      )
    },
  },
  {
    key: 'via',
    title: 'Through',
    width: '124px',
    cell: (row) =>
      row.kind === 'act' && (
        <span title={[row.act.via, row.act.origin && `from ${row.act.origin}`].filter(Boolean).join(' · ')}>
          {row.act.via?.includes(', key ') ? row.act.via.split(', key ')[1] : row.act.via?.split(' of ')[0]}
        </span>
      ),
  },
]

/** Who changed what, from what to what? */
export default function LogScreen() {
  const [params, change] = useAddress()
  const get = (name: keyof Sought) => params.get(name) ?? undefined
  const sought: Sought = {
    account: get('account'),
    by: get('by'),
    kind: get('kind'),
    first_day: get('first_day'),
    last_day: get('last_day'),
    find: get('find'),
  }
  const words = useDeferredValue(sought.find)
  const looked = { ...sought, find: words }
  const found = useInfiniteQuery({
    queryKey: ['log', looked],
    queryFn: ({ pageParam }) => actsPage(looked, pageParam),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (last) => last.before ?? undefined,
    placeholderData: keepPreviousData,
  })
  const set = (name: keyof Sought, value: string) => change({ [name]: value })
  const days = useQuery(logDays({ ...looked, first_day: undefined, last_day: undefined }))
  const newest = days.data?.days.at(-1)
  const [opened, setOpened] = useState<ReadonlySet<number>>(new Set())
  const columns = columnsOf(opened, (act) =>
    setOpened((now) => {
      const next = new Set(now)
      if (!next.delete(act.newest)) next.add(act.newest)
      return next
    }),
  )
  const acts = found.data?.pages.flatMap((page) => page.acts) ?? []
  const inside = useQueries({
    queries: acts.filter((each) => opened.has(each.newest)).map((act) => entriesOf(looked, act)),
    combine: (results) => results.map((each) => each.data),
  })
  const openedActs = acts.filter((each) => opened.has(each.newest))
  const rows = acts.flatMap((act): Row[] => {
    const head: Row = { kind: 'act', act }
    if (!opened.has(act.newest)) return [head]
    const entries = inside[openedActs.indexOf(act)]
    return entries
      ? [head, ...entries.map((entry): Row => ({ kind: 'entry', entry, act }))]
      : [head, { kind: 'wait', act }]
  })
  const first = found.data?.pages[0]
  const choice = (name: 'by' | 'kind', label: string, any: string, of: [string, string][]) => (
    <Form.Select
      aria-label={label}
      style={{ width: 135 }}
      value={sought[name] ?? ''}
      onChange={(event) => set(name, event.target.value)}
    >
      <option value="">{any}</option>
      {(sought[name] && !of.some(([value]) => value === sought[name]) ? [...of, [sought[name], sought[name]]] : of).map(
        ([value, name]) => (
          <option key={value} value={value}>
            {name}
          </option>
        ),
      )}
    </Form.Select>
  )
  const day = (name: 'first_day' | 'last_day', label: string) => (
    <label className="d-flex gap-1 align-items-baseline quiet small">
      {label}
      <DayField means="last" value={sought[name] ?? ''} onDay={(chosen) => set(name, chosen)} />
    </label>
  )
  return (
    <>
      <div className="bar">
        <h1>Log</h1>
        <LogTabs at="log" />
        <FindField
          label="Find words"
          group="Log"
          find={sought.find ?? ''}
          onFind={(words) => set('find', words)}
          width={150}
          placeholder="Find words  /"
        />
        <AccountField chosen={sought.account} choose={(value) => set('account', value)} />
        {choice('by', 'Actor', 'by anybody', first?.actors.map((each) => [each, actorName(each)]) ?? [])}
        {choice('kind', 'What', 'anything', first?.kinds.map((each) => [each.kind, each.name]) ?? [])}
        {day('first_day', 'from')}
        {day('last_day', 'to')}
        <span className="grow" />
        <ExportMenu path="/api/log/export" params={{ ...sought }} />
      </div>
      {newest && days.data && (
        <DayStrip
          days={days.data.days}
          until={newest.day}
          partial={days.data.partial}
          chosen={sought.first_day !== undefined && sought.first_day === sought.last_day ? sought.first_day : undefined}
          choose={(day) => change({ first_day: day, last_day: day })}
        />
      )}
      {found.isError ? (
        <Trouble error={found.error} again={() => void found.refetch()} />
      ) : !found.data ? (
        <Wait what="the log" />
      ) : acts.length === 0 ? (
        <div className="scroll">
          <Empty title="No entries">Clear a filter or change the search.</Empty>
        </div>
      ) : (
        <VirtualTable
          rows={rows}
          columns={columns}
          rowKey={(row) => (row.kind === 'entry' ? `entry ${row.entry.number}` : `${row.kind} ${row.act.newest}`)}
          rowClass={(row) => (row.kind === 'act' ? undefined : 'inside')}
          label="Log, newest first"
          foot={
            found.hasNextPage ? (
              <div role="cell" style={{ gridColumn: '1 / -1' }}>
                <Button
                  variant="outline-primary"
                  onClick={() => void found.fetchNextPage()}
                  disabled={found.isFetchingNextPage}
                >
                  Older entries
                </Button>
              </div>
            ) : undefined
          }
        />
      )}
    </>
  )
}

function AccountField({ chosen, choose }: { chosen: string | undefined; choose: (code: string) => void }) {
  const [words, setWords] = useState(chosen ?? '')
  const found = useQuery(accountsFound(useDeferredValue(words)))
  const take = (text: string) => {
    setWords(text)
    const hit = found.data?.find((each) => each.account === text)
    if (hit || !text) choose(text)
  }
  return (
    <>
      <Form.Control
        type="search"
        list="log-accounts"
        placeholder="all accounts"
        aria-label="Account"
        style={{ width: 135 }}
        value={words}
        onChange={(event) => take(event.target.value)}
      />
      <datalist id="log-accounts">
        {(found.data ?? []).map((each) => (
          <option key={each.account} value={each.account}>
            {each.name}
          </option>
        ))}
      </datalist>
    </>
  )
}
