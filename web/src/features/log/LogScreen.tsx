import { keepPreviousData, useInfiniteQuery, useQuery } from '@tanstack/react-query'
import { useDeferredValue, useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { accountsFound, logPage, type LogEntry, type Sought } from '../../api/queries'
import { instantName } from '../../domain/months'
import { useAddress } from '../../parts/address'
import { ExportMenu } from '../../parts/ExportMenu'
import { Empty, Trouble, Wait } from '../../parts/States'
import { LogTabs } from './LogTabs'
import { fieldName, useSubject } from './subject'
import { VirtualTable, type Column } from '../../parts/VirtualTable'

const columnsOf = (subject: (text: string) => string): Column<LogEntry>[] => [
  { key: 'at', title: 'When', width: '148px', cell: (row) => <span title={row.at}>{instantName(row.at)}</span> },
  {
    key: 'actor',
    title: 'Who',
    width: '110px',
    cell: (row) => row.actor,
  },
  {
    key: 'via',
    title: 'Through',
    width: '112px',
    cell: (row) => (
      <span title={[row.via, row.origin && `from ${row.origin}`].filter(Boolean).join(' · ')}>
        {row.via?.includes(', key ') ? row.via.split(', key ')[1] : row.via?.split(' of ')[0]}
      </span>
    ),
  },
  {
    key: 'account',
    title: 'Account',
    width: 'minmax(130px, 1fr)',
    cell: (row) => row.account_name ?? <span className="quiet">–</span>,
  },
  { key: 'action', title: 'What', width: '156px', cell: (row) => row.action },
  {
    key: 'subject',
    title: 'Of',
    width: 'minmax(130px, 1fr)',
    cell: (row) => <span title={row.subject}>{subject(row.subject)}</span>,
  },
  { key: 'changes', title: 'Change', width: 'minmax(240px, 2.4fr)', cell: (row) => <Changes row={row} /> },
]

function Changes({ row }: { row: LogEntry }) {
  const subject = useSubject()
  const told = row.changes
    .map((each) => `${fieldName(each.what)}: ${each.before ?? 'nothing'} → ${each.after ?? 'nothing'}`)
    .join('; ')
  return (
    <span className="changes" title={told}>
      {row.changes.map((each, place) => (
        <span key={each.what}>
          {place > 0 && '; '}
          <span className="quiet">{fieldName(each.what)}</span> {each.before !== null && <s>{subject(each.before)}</s>}{' '}
          {each.after !== null && <b style={{ fontWeight: 600 }}>{subject(each.after)}</b>}
        </span>
      ))}
    </span>
  )
}

/** Who changed what, from what to what? */
export default function LogScreen() {
  const columns = columnsOf(useSubject())
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
    queryFn: ({ pageParam }) => logPage(looked, pageParam),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (last) => last.before ?? undefined,
    placeholderData: keepPreviousData,
  })
  const set = (name: keyof Sought, value: string) => change({ [name]: value })
  const entries = found.data?.pages.flatMap((page) => page.entries) ?? []
  const first = found.data?.pages[0]
  const choice = (name: 'by' | 'kind', label: string, any: string, of: string[]) => (
    <Form.Select
      aria-label={label}
      style={{ width: 135 }}
      value={sought[name] ?? ''}
      onChange={(event) => set(name, event.target.value)}
    >
      <option value="">{any}</option>
      {[...new Set([...(sought[name] ? [sought[name]] : []), ...of])].map((each) => (
        <option key={each}>{each}</option>
      ))}
    </Form.Select>
  )
  const day = (name: 'first_day' | 'last_day', label: string) => (
    <label className="d-flex gap-1 align-items-baseline quiet small">
      {label}
      <Form.Control
        type="date"
        style={{ width: 128 }}
        value={sought[name] ?? ''}
        onChange={(event) => set(name, event.target.value)}
      />
    </label>
  )
  return (
    <>
      <div className="bar">
        <h1>Log</h1>
        <LogTabs at="log" />
        <Form.Control
          type="search"
          placeholder="Find words"
          aria-label="Find words"
          style={{ width: 150 }}
          defaultValue={sought.find ?? ''}
          onChange={(event) => set('find', event.target.value)}
        />
        <AccountField chosen={sought.account} choose={(value) => set('account', value)} />
        {choice('by', 'Actor', 'by anybody', first?.actors ?? [])}
        {choice('kind', 'What', 'anything', first?.kinds ?? [])}
        {day('first_day', 'from')}
        {day('last_day', 'to')}
        <span className="grow" />
        <ExportMenu path="/api/log/export" params={{ ...sought }} />
      </div>
      {found.isError ? (
        <Trouble error={found.error} again={() => void found.refetch()} />
      ) : !found.data ? (
        <Wait what="the log" />
      ) : entries.length === 0 ? (
        <div className="scroll">
          <Empty title="No entries">Clear a filter or change the search.</Empty>
        </div>
      ) : (
        <VirtualTable
          rows={entries}
          columns={columns}
          rowKey={(row) => row.number}
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
