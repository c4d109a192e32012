import { useQuery } from '@tanstack/react-query'
import { useRef, useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useNavigate, useParams } from 'react-router'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { dayName, dayOf } from '../../domain/months'
import { Trouble, Wait } from '../../components/States'
import { ImportMapping } from './ImportMapping'
import { ImportProgress } from './ImportProgress'
import { importRun, imports as importsQuery } from './queries'

export const STATES: Record<Schemas['ImportRow']['state'], string> = {
  open: 'not begun',
  planned: 'planned',
  running: 'under way',
  cancelled: 'cancelled',
  broken: 'broke off',
  done: 'done',
}

/** Who comes in from this table, and what stands against it? */
export default function ImportScreen() {
  const { number } = useParams()
  return number === undefined ? <Start /> : <One number={Number(number)} key={number} />
}

function One({ number }: { number: number }) {
  const run = useQuery(importRun(number))
  if (run.isError) return <Trouble page="Import people" error={run.error} again={() => void run.refetch()} />
  if (!run.data) return <Wait what="the table" />
  return run.data.state === 'open' ? <ImportMapping number={number} /> : <ImportProgress run={run.data} />
}

function Start() {
  const go = useNavigate()
  const before = useQuery(importsQuery)
  const file = useRef<HTMLInputElement>(null)
  const [pasted, setPasted] = useState('')
  const { run, busy, trouble } = useAction('imports')
  const [over, setOver] = useState(false)
  const send = async (name: string, content: Blob) => {
    await run(async () => {
      const found = await take(
        api.POST('/api/people-imports', {
          params: { query: { name } },
          body: content as unknown as string,
          bodySerializer: (body: unknown) => body as Blob,
          headers: { 'Content-Type': 'application/octet-stream' },
        }),
      )
      void go(`/people-import/${found.id}`)
    })
  }
  return (
    <>
      <div className="bar">
        <Link to="/people" className="quiet small">
          People ›
        </Link>
        <h1>Import people</h1>
      </div>
      <div className="scroll account" role="region" aria-label="Import people" tabIndex={0}>
        <div className="columns">
          <section aria-label="A table">
            <h2 className="sub">People to import</h2>
            <p className="quiet">
              A CSV file, a workbook (.xlsx), or rows copied out of a spreadsheet; the first row names the columns.
              Nothing is done before you have seen what it comes to.
            </p>
            <div
              className={`dropzone${over ? ' over' : ''}`}
              onDragOver={(event) => {
                event.preventDefault()
                setOver(true)
              }}
              onDragLeave={() => setOver(false)}
              onDrop={(event) => {
                event.preventDefault()
                setOver(false)
                const [dropped] = event.dataTransfer.files
                if (dropped) void send(dropped.name, dropped)
              }}
            >
              <input
                ref={file}
                type="file"
                hidden
                accept=".csv,.tsv,.txt,.xlsx"
                aria-label="File with people"
                onChange={(event) => {
                  const [chosen] = event.target.files ?? []
                  if (chosen) void send(chosen.name, chosen)
                }}
              />
              <Button disabled={busy} onClick={() => file.current?.click()}>
                Choose a file…
              </Button>{' '}
              <span className="quiet">or drop a file here</span>
            </div>
            <Form
              className="mt-3"
              onSubmit={(event) => {
                event.preventDefault()
                void send('pasted', new Blob([pasted]))
              }}
            >
              <Form.Group controlId="pasted">
                <Form.Label>Or paste rows</Form.Label>
                <Form.Control
                  as="textarea"
                  rows={7}
                  className="mono"
                  spellCheck={false}
                  placeholder={'Name\tE-mail\tTitle\nIda Blom\tida.blom@client.example\tPilot'}
                  value={pasted}
                  onChange={(event) => setPasted(event.target.value)}
                />
              </Form.Group>
              <Button type="submit" variant="outline-primary" className="mt-2" disabled={busy || !pasted.trim()}>
                Preview these rows
              </Button>
            </Form>
            {busy && (
              <p className="quiet mt-2" role="status">
                Reading the table…
              </p>
            )}
            {trouble && (
              <p className="over mt-2" role="alert">
                {trouble}
              </p>
            )}
          </section>
          <section aria-label="Earlier imports">
            <h2 className="sub">Earlier imports</h2>
            {before.data?.length === 0 && <p className="quiet">None yet.</p>}
            {before.data && before.data.length > 0 && (
              <table className="ledger tight">
                <thead>
                  <tr>
                    <th>Table</th>
                    <th>On</th>
                    <th>State</th>
                    <th className="fig">Rows done</th>
                  </tr>
                </thead>
                <tbody>
                  {before.data.map((each) => (
                    <tr key={each.id}>
                      <td>
                        <Link to={`/people-import/${each.id}`}>{each.name}</Link>
                      </td>
                      <td>{dayName(dayOf(each.at))}</td>
                      <td className={each.state === 'broken' ? 'over' : undefined}>
                        {STATES[each.state]}
                        {each.on_day && each.state === 'planned' && ` for ${dayName(each.on_day)}`}
                      </td>
                      <td className="fig">
                        {each.state === 'open' ? `0 of ${each.count}` : `${each.done} of ${each.total}`}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            )}
          </section>
        </div>
      </div>
    </>
  )
}
