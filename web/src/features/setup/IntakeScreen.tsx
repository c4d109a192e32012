import { useQueryClient } from '@tanstack/react-query'
import { whole } from '../../domain/units'
import { useRef, useState } from 'react'
import { Button } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { Faults } from './Faults'
import { WhomToInvite } from './WhomToInvite'

/** What does this intake bring, and what is wrong with it? */
export default function IntakeScreen() {
  const queries = useQueryClient()
  const file = useRef<HTMLInputElement>(null)
  const [busy, setBusy] = useState('')
  const { run, error } = useAction()
  const [done, setDone] = useState<Schemas['TableDone'][] | null>(null)
  const send = async (chosen: File) => {
    setBusy(chosen.name)
    setDone(null)
    await run(async () => {
      setDone(
        await take(
          api.POST('/api/intakes', {
            params: { query: { name: chosen.name } },
            body: chosen as unknown as string,
            bodySerializer: (body: unknown) => body as Blob,
            headers: { 'Content-Type': 'application/octet-stream' },
          }),
        ),
      )
      void queries.invalidateQueries()
    })
    setBusy('')
    if (file.current) file.current.value = ''
  }
  return (
    <>
      <div className="bar">
        <h1>Import an intake</h1>
      </div>
      <div className="scroll account" role="region" aria-label="Import an intake" tabIndex={0}>
        <p className="pt-2" style={{ maxWidth: 720 }}>
          A workbook (.xlsx) with a sheet per table, or a zip of CSV files: accounts, products, lots, allocations,
          assignments, storage, people, groups, rates. Existing rows are updated, nothing is removed, and with a single
          error nothing is imported. An intake sends no mail.
        </p>
        <input
          ref={file}
          id="intake"
          type="file"
          accept=".zip,.xlsx"
          aria-label="Workbook or zip"
          disabled={busy !== ''}
          onChange={(event) => {
            const chosen = event.target.files?.[0]
            if (chosen) void send(chosen)
          }}
        />
        <div role="status" className="mt-2">
          {busy && `Importing ${busy}; a large file takes minutes…`}
          {done && (
            <table className="ledger tight" aria-label="History">
              <thead>
                <tr>
                  <th>Table</th>
                  <th className="fig">New</th>
                  <th className="fig">Changed</th>
                  <th className="fig">Unchanged</th>
                </tr>
              </thead>
              <tbody>
                {done.map((each) => (
                  <tr key={each.table}>
                    <td>{each.table.replace('_', ' ')}</td>
                    <td className="fig">{whole(each.created)}</td>
                    <td className="fig">{whole(each.changed)}</td>
                    <td className="fig">{whole(each.left)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
        </div>
        {done && <WhomToInvite />}
        {error !== null && (
          <>
            <Faults error={error} />
            <Button variant="outline-primary" className="mt-2" onClick={() => file.current?.click()}>
              Choose the file again
            </Button>
          </>
        )}
      </div>
    </>
  )
}
