import { useState } from 'react'
import { Form } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { FaultTable } from '../../components/FaultTable'
import { FormDialog } from '../../components/FormDialog'
import { whole } from '../../domain/units'

/** Rows of a table of terms, made and changed from a file: all of them or, with what is wrong, none. */
export function LoadTerms({
  seller,
  table,
  what,
  done,
  close,
}: {
  seller: string
  table: Schemas['TermsTable']
  /** What the rows are called, as "exchange rates". */
  what: string
  done: (said: string) => void
  close: () => void
}) {
  const [file, setFile] = useState<File | null>(null)
  const [found, setFound] = useState<Schemas['LoadedTerms'] | null>(null)
  const { run, busy, trouble } = useAction('statements', 'log')
  const load = () =>
    run(async () => {
      if (!file) throw new Error('Choose a file.')
      const loaded = await take(
        api.POST('/api/terms-files', {
          params: { query: { seller, table: table.table, name: file.name } },
          body: '',
          bodySerializer: () => file,
          headers: { 'Content-Type': 'application/octet-stream' },
        }),
      )
      if (loaded.fault_count > 0) return setFound(loaded)
      done(
        `${file.name} loaded: ${whole(loaded.created)} new, ${whole(loaded.changed)} changed, ${whole(loaded.left)} unchanged.`,
      )
    })
  return (
    <FormDialog
      id="load-terms"
      title={`Load ${what}`}
      size="lg"
      submit="Load"
      busy={busy}
      trouble={trouble}
      send={() => void load()}
      close={close}
    >
      <Form.Group controlId="terms-file">
        <Form.Label>CSV or XLSX with the columns {table.columns.join(', ')}</Form.Label>
        <Form.Control
          type="file"
          accept=".csv,.tsv,.txt,.xlsx"
          autoFocus
          required
          onChange={(event) => {
            setFile((event.target as HTMLInputElement).files?.[0] ?? null)
            setFound(null)
          }}
        />
        <Form.Text>
          A row of the same {table.key.join(', ')} is changed; the others stay. Days are written like 2026-10-31.
        </Form.Text>
      </Form.Group>
      {found && (
        <div className="mt-2" role="alert">
          <p className="over mb-1">
            Nothing was loaded: {whole(found.fault_count)} {found.fault_count === 1 ? 'error' : 'errors'}.
          </p>
          <FaultTable faults={found.faults} />
          {found.fault_count > found.faults.length && (
            <p className="quiet small mb-0">and {whole(found.fault_count - found.faults.length)} more</p>
          )}
        </div>
      )}
    </FormDialog>
  )
}
