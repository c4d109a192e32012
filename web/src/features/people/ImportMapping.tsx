import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useRef, useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useNavigate } from 'react-router'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { AccountSelect } from '../../components/AccountSelect'
import { ExportMenu } from '../../components/ExportMenu'
import { Trouble, Wait } from '../../components/States'
import { VirtualTable } from '../../components/VirtualTable'
import { DayField } from '../../components/DayField'
import { dayName } from '../../domain/months'
import { groupNames, importLook, importRun, seatProducts } from './queries'

type How = Schemas['HowBody']
const COMES_TO: [string, string, string][] = [
  ['create', 'join', 'good'],
  ['link', 'are linked', 'good'],
  ['update', 'will be updated', ''],
  ['leave', 'stay unchanged', ''],
  ['left_out', 'left out', ''],
  ['fault', 'with errors', 'over'],
]

const LEAVES: [string, string, string][] = [
  ['update', 'leave', ''],
  ['leave', 'are suspended already', ''],
  ['left_out', 'left out', ''],
  ['fault', 'with errors', 'over'],
]
const LEFT = { suspend: 'suspended', release: 'suspended, seats released', remove: 'removed' }
const ACT = { '': 'Import', suspend: 'Suspend', release: 'Suspend', remove: 'Remove' }

/** Which column is what, what is done with whom, and everything that stands against it; nothing is done yet. */
export function ImportMapping({ number }: { number: number }) {
  const queries = useQueryClient()
  const go = useNavigate()
  const looked = useQuery(importLook(number))
  const [wanted, setWanted] = useState<How | null>(null)
  const [on, setOn] = useState('')
  const { run, busy, trouble } = useAction()
  const turn = useRef(Promise.resolve())
  const newest = useRef(0)
  if (looked.isError) return <Trouble error={looked.error} again={() => void looked.refetch()} />
  if (!looked.data) return <Wait what="the table" />
  const found = looked.data
  const how = wanted ?? found.how
  const set = (changes: Partial<How>) => {
    const next = { ...how, ...changes }
    setWanted(next)
    newest.current++
    const mine = newest.current
    // One after the other, and only the newest: each answer takes a moment with a long table.
    turn.current = turn.current.then(async () => {
      if (mine !== newest.current) return
      await run(async () => {
        queries.setQueryData(
          importLook(number).queryKey,
          await take(
            api.PUT('/api/people-imports/{import_id}', { params: { path: { import_id: number } }, body: next }),
          ),
        )
        if (mine === newest.current) setWanted(null)
      })
    })
  }
  const begin = async () => {
    await run(async () => {
      await turn.current
      await take(
        api.POST('/api/people-imports/{import_id}/begin', {
          params: { path: { import_id: number } },
          body: { on: (how.leaving && on) || null },
        }),
      )
      await queries.invalidateQueries({ queryKey: importRun(number).queryKey })
    })
  }
  const away = async () => {
    await take(api.DELETE('/api/people-imports/{import_id}', { params: { path: { import_id: number } } }))
    void queries.invalidateQueries({ queryKey: ['imports'] })
    void go('/people-import')
  }
  const { counts } = found
  const doing = (counts.create ?? 0) + (counts.link ?? 0) + (counts.update ?? 0)
  const faulty = counts.fault ?? 0
  return (
    <>
      <div className="bar tightbar">
        <Link to="/people-import" className="quiet small">
          Import people ›
        </Link>
        <h1>{found.name}</h1>
        <span className="quiet small">
          {found.count} {found.count === 1 ? 'row' : 'rows'}
        </span>
        <span className="small" role="status">
          {wanted
            ? 'Loading…'
            : (how.leaving ? LEAVES : COMES_TO)
                .filter(([key]) => counts[key])
                .map(([key, says, tone]) => (
                  <span key={key} className={`me-2 ${tone}`}>
                    <b>{counts[key]}</b> {says}
                  </span>
                ))}
        </span>
        <span className="grow" />
        {trouble && (
          <span className="over small" role="alert">
            {trouble}
          </span>
        )}
        <Button variant="outline-primary" onClick={() => void away()}>
          Discard import
        </Button>
        <Button
          disabled={busy || wanted !== null || doing === 0 || (faulty > 0 && !how.leave_faults)}
          onClick={() => void begin()}
        >
          {ACT[how.leaving]} {doing} {doing === 1 ? 'person' : 'people'}
          {how.leaving && on ? ` on ${dayName(on)}` : ''}
        </Button>
      </div>
      <div className="scroll importing" role="region" aria-label="Summary" tabIndex={0}>
        <Columns found={found} columns={how.columns} set={(columns) => set({ columns })} />
        <div className="columns">
          <Choices how={how} set={set} faulty={faulty} on={on} setOn={setOn} />
          <div>
            {found.seats.length > 0 && (
              <section aria-label="Seats">
                <h2 className="sub">Seats</h2>
                <table className="ledger tight">
                  <thead>
                    <tr>
                      <th>Account</th>
                      <th>Product</th>
                      <th className="fig">Needed</th>
                      <th className="fig">Room for</th>
                    </tr>
                  </thead>
                  <tbody>
                    {found.seats.slice(0, 12).map((each) => (
                      <tr key={`${each.account} ${each.product}`}>
                        <td>{each.account_name}</td>
                        <td>{each.product_name}</td>
                        <td className="fig">{each.needed}</td>
                        <td className={`fig ${each.is_short ? 'over' : ''}`}>
                          {each.is_short && (each.left ?? Infinity) >= each.needed
                            ? 'not available now'
                            : (each.left ?? 'no limit')}
                        </td>
                      </tr>
                    ))}
                  </tbody>
                </table>
                {found.seats.length > 12 && <p className="quiet small">And {found.seats.length - 12} more accounts.</p>}
                <p className="quiet small">
                  Where there is no room, the rest join without the seat; the report lists them.
                </p>
              </section>
            )}
            {found.conflict_count > 0 && (
              <section aria-label="Conflicts">
                <h2 className="sub">
                  {found.conflict_count} {found.conflict_count === 1 ? 'conflict' : 'conflicts'}
                </h2>
                <table className="ledger tight">
                  <thead>
                    <tr>
                      <th className="fig">Row</th>
                      <th>Name</th>
                      <th>Not given</th>
                      <th>Because</th>
                    </tr>
                  </thead>
                  <tbody>
                    {found.conflicts.slice(0, 12).map((each) => (
                      <tr key={`${each.row} ${each.product}`}>
                        <td className="fig">{each.row}</td>
                        <td>{each.name}</td>
                        <td>{each.product}</td>
                        <td>{each.why}</td>
                      </tr>
                    ))}
                  </tbody>
                </table>
                {found.conflict_count > 12 && (
                  <p className="quiet small">And {found.conflict_count - 12} more; the report lists them all.</p>
                )}
              </section>
            )}
            {found.fault_count > 0 && (
              <section aria-label="Errors" className="faults">
                <div className="d-flex align-items-center gap-2">
                  <h2 className="sub mb-0">
                    {found.fault_count} {found.fault_count === 1 ? 'error' : 'errors'}
                  </h2>
                  <span className="grow" />
                  <ExportMenu path={`/api/people-imports/${number}/export`} named="import errors" params={{}} />
                </div>
                <VirtualTable
                  rows={found.faults}
                  label="Errors"
                  rowKey={(row) => `${row.row} ${row.column}`}
                  rowHeight={44}
                  columns={[
                    { key: 'row', title: 'Row', width: '50px', fig: true, cell: (row) => row.row },
                    { key: 'column', title: 'Column', width: '96px', cell: (row) => row.column },
                    {
                      key: 'found',
                      title: 'Found',
                      width: 'minmax(100px, 1fr)',
                      cell: (row) => (
                        <span title={row.found}>{row.found || <span className="quiet">nothing</span>}</span>
                      ),
                    },
                    {
                      key: 'expected',
                      title: 'Expected',
                      width: 'minmax(180px, 2fr)',
                      cell: (row) => (
                        <span className="two-lines" title={row.expected}>
                          {row.expected}
                        </span>
                      ),
                    },
                    {
                      key: 'out',
                      title: '',
                      width: '86px',
                      cell: (row) => (
                        <button
                          type="button"
                          className="btn btn-link btn-sm p-0"
                          aria-label={`Skip row ${row.row}`}
                          onClick={() => set({ leave_out: [...how.leave_out, row.row] })}
                        >
                          leave out
                        </button>
                      ),
                    },
                  ]}
                />
              </section>
            )}
            {found.steps.length > 0 && (
              <section aria-label="First rows">
                <h2 className="sub">{found.steps.length < 200 ? 'Row by row' : 'The first 200 rows'}</h2>
                <div className="rowbyrow">
                  <table className="ledger tight">
                    <thead>
                      <tr>
                        <th className="fig">Row</th>
                        <th>Who</th>
                        <th>Account</th>
                        <th>Result</th>
                        <th>
                          <span className="visually-hidden">Do</span>
                        </th>
                      </tr>
                    </thead>
                    <tbody>
                      {found.steps.map((each) => (
                        <tr key={each.row}>
                          <td className="fig">{each.row}</td>
                          <td title={each.email}>{each.name || each.username || each.email}</td>
                          <td title={each.account}>{each.account_name}</td>
                          <td>
                            {how.leaving && each.do === 'update'
                              ? LEFT[how.leaving]
                              : {
                                  create: 'joins',
                                  link: 'is linked',
                                  update: 'updated',
                                  leave: 'unchanged',
                                }[each.do]}
                          </td>
                          <td>
                            <button
                              type="button"
                              className="btn btn-link btn-sm p-0"
                              aria-label={`Skip row ${each.row}`}
                              onClick={() => set({ leave_out: [...how.leave_out, each.row] })}
                            >
                              leave out
                            </button>
                          </td>
                        </tr>
                      ))}
                    </tbody>
                  </table>
                </div>
              </section>
            )}
          </div>
        </div>
      </div>
    </>
  )
}

/** The table's head with what each column is: chosen in its own field, or dragged onto it. */
function Columns({
  found,
  columns,
  set,
}: {
  found: Schemas['ImportPreviewBody']
  columns: How['columns']
  set: (columns: How['columns']) => void
}) {
  const [over, setOver] = useState<number | null>(null)
  const isAt = (place: number) => Object.entries(columns).find(([, at]) => at === place)?.[0] ?? ''
  const put = (key: string, place: number) =>
    set(
      Object.fromEntries([
        ...Object.entries(columns).filter(([each, at]) => each !== key && at !== place),
        ...(key ? [[key, place]] : []),
      ]) as How['columns'],
    )
  const free = found.fields.filter((each) => columns[each.key] === undefined)
  return (
    <section aria-label="Columns">
      <div className="chips flat" aria-label="Unmapped fields: drag onto a column, or choose there">
        <span className="quiet small">
          {free.length > 0 ? 'Drag onto a column, or choose there:' : 'All fields are mapped.'}
        </span>
        {free.map((each) => (
          <span
            key={each.key}
            className="chip grab"
            draggable
            onDragStart={(event) => event.dataTransfer.setData('text/plain', each.key)}
          >
            {each.label}
          </span>
        ))}
      </div>
      <div className="maptable">
        <table className="ledger tight">
          <thead>
            <tr>
              {found.header.map((name, place) => (
                <th
                  key={`${name} ${place}`}
                  className={over === place ? 'dropping' : undefined}
                  onDragOver={(event) => {
                    event.preventDefault()
                    setOver(place)
                  }}
                  onDragLeave={() => setOver(null)}
                  onDrop={(event) => {
                    event.preventDefault()
                    setOver(null)
                    put(event.dataTransfer.getData('text/plain'), place)
                  }}
                >
                  <span className="quiet">{name || `column ${place + 1}`}</span>
                  <Form.Select
                    size="sm"
                    aria-label={`${name || `column ${place + 1}`} is`}
                    value={isAt(place)}
                    className={isAt(place) ? undefined : 'quiet'}
                    onChange={(event) => put(event.target.value, place)}
                  >
                    <option value="">not used</option>
                    {found.fields.map((each) => (
                      <option key={each.key} value={each.key}>
                        {each.label}
                      </option>
                    ))}
                  </Form.Select>
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {found.sample.map((cells, row) => (
              <tr key={row}>
                {cells.map((cell, place) => (
                  <td key={place} className={isAt(place) ? undefined : 'quiet'} title={cell}>
                    {cell}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  )
}

function Choices({
  how,
  set,
  faulty,
  on,
  setOn,
}: {
  how: How
  set: (changes: Partial<How>) => void
  faulty: number
  /** The day on which people leave; empty = at once. */
  on: string
  setOn: (day: string) => void
}) {
  const groups = useQuery(groupNames).data ?? []
  const products = useQuery(seatProducts).data ?? []
  const choose = <K extends 'known' | 'elsewhere' | 'joining' | 'leaving'>(
    name: K,
    label: string,
    options: [string, string][],
  ) => (
    <Form.Group controlId={`import-${name}`}>
      <Form.Label>{label}</Form.Label>
      <Form.Select value={how[name]} onChange={(event) => set({ [name]: event.target.value as How[K] })}>
        {options.map(([key, says]) => (
          <option key={key} value={key}>
            {says}
          </option>
        ))}
      </Form.Select>
    </Form.Group>
  )
  const flip = (list: string[], one: string) =>
    list.includes(one) ? list.filter((each) => each !== one) : [...list, one]
  const ticked = (name: 'groups' | 'products', label: string, options: [string, string][]) => (
    <fieldset className="mt-2">
      <legend className="small quiet mb-0">{label}</legend>
      <div className="ticks">
        {options.map(([key, says]) => (
          <Form.Check
            key={key}
            id={`import-${name}-${key}`}
            label={says}
            checked={how[name].includes(key)}
            onChange={() => set({ [name]: flip(how[name], key) })}
          />
        ))}
      </div>
    </fieldset>
  )
  return (
    <section aria-label="Options">
      <h2 className="sub">Options</h2>
      <div className="lotform">
        {choose('leaving', 'People in the file', [
          ['', 'join or are updated'],
          ['suspend', 'leave: suspend, keep their seats'],
          ['release', 'leave: suspend and release their seats'],
          ['remove', 'leave: remove'],
        ])}
        {how.leaving !== '' && (
          <Form.Group controlId="import-on">
            <Form.Label>On (empty = at once)</Form.Label>
            <DayField value={on} onDay={setOn} />
          </Form.Group>
        )}
        <Form.Group controlId="import-account" hidden={how.leaving !== ''}>
          <Form.Label>Default account</Form.Label>
          <AccountSelect
            value={how.account}
            any="none"
            onChange={(account) => set({ account })}
            only={(each) => each.status === 'active'}
          />
        </Form.Group>
        {how.leaving === '' &&
          choose('joining', 'New people', [
            ['invited', 'invite by mail'],
            ['active', 'activate at once'],
          ])}
        {how.leaving === '' &&
          choose('known', 'Existing people', [
            ['update', 'update from the file'],
            ['leave', 'leave unchanged'],
          ])}
        {how.leaving === '' &&
          choose('elsewhere', 'People in other accounts', [
            ['refuse', 'report an error'],
            ['update', 'update there'],
            ['link', 'link: the same person joins here too'],
          ])}
      </div>
      {how.leaving ? (
        <p className="small mt-2 mb-0">
          Found by address or username; nothing else in the file is read. It can be reversed afterwards.
        </p>
      ) : (
        <>
          {ticked(
            'products',
            'Assign a seat of',
            products.map((each) => [each.code, each.name]),
          )}
          {ticked(
            'groups',
            'Add to the group',
            groups.map((each) => [`${each.account}/${each.code}`, `${each.name} (${each.account_name})`]),
          )}
        </>
      )}
      {faulty > 0 && (
        <Form.Check
          className="mt-2"
          id="import-faults"
          label={`Skip the ${faulty} ${faulty === 1 ? 'row' : 'rows'} with errors`}
          checked={how.leave_faults}
          onChange={(event) => set({ leave_faults: event.target.checked })}
        />
      )}
      {how.leave_out.length > 0 && (
        <p className="small mt-2 mb-0">
          {how.leave_out.length} {how.leave_out.length === 1 ? 'row is' : 'rows are'} left out by hand.{' '}
          <button type="button" className="btn btn-link btn-sm p-0" onClick={() => set({ leave_out: [] })}>
            Include them again
          </button>
        </p>
      )}
    </section>
  )
}
