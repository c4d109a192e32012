import { useState } from 'react'
import { Button, Form, Modal } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { ColumnChoice } from '../../components/ColumnChoice'
import { money } from '../../domain/money'
import { shortDay } from '../../domain/months'
import { whole } from '../../domain/units'
import { CHANGES } from './queries'

type Read = Schemas['BankFileBody']
type Line = Schemas['BankLineBody']
const WANTED = [
  ['day', 'Day'],
  ['amount', 'Amount'],
  ['text', 'Text'],
  ['currency', 'Currency, if any'],
] as const
const SAYS: Record<Line['state'], string> = {
  fits: 'fits',
  differs: 'differs',
  several: 'fits several',
  maybe: 'amount only',
  paid: 'settled already',
  known: 'taken before',
  other: 'no statement',
  fault: 'not read',
}
const SHOWN = 300

/** A bank's file held against what is open: what fits is taken, the rest is for a choice. */
export function BankFile({ seller, done, close }: { seller: string; done: (said: string) => void; close: () => void }) {
  const [file, setFile] = useState<File | null>(null)
  const [found, setFound] = useState<Read | null>(null)
  const [chosen, setChosen] = useState<Map<string, string>>(new Map())
  const reading = useAction()
  const recording = useAction(...CHANGES)
  const read = (from: File, columns: Record<string, number>) =>
    reading.run(async () => {
      const answer = await take(
        api.POST('/api/bank-files', {
          params: { query: { seller, name: from.name, ...columns } },
          body: '',
          bodySerializer: () => from,
          headers: { 'Content-Type': 'application/octet-stream' },
        }),
      )
      setFound(answer)
      const fits = answer.lines.filter((each) => each.state === 'fits')
      setChosen(new Map(fits.flatMap((each) => (each.candidates[0] ? [[each.line, each.candidates[0].number]] : []))))
    })
  const record = () =>
    recording.run(async () => {
      const payments = (found?.lines ?? []).flatMap((each) => {
        const number = chosen.get(each.line)
        return number && each.amount && each.day
          ? [{ number, amount: each.amount, day: each.day, note: each.text.slice(0, 200), bank_line: each.line }]
          : []
      })
      const { recorded } = await take(
        api.POST('/api/receivables/{seller}/payments', { params: { path: { seller } }, body: { payments } }),
      )
      done(`${whole(recorded)} ${recorded === 1 ? 'payment' : 'payments'} recorded.`)
    })
  const choose = (line: string, number: string | null) =>
    setChosen((now) => {
      const next = new Map(now)
      if (number) next.set(line, number)
      else next.delete(line)
      return next
    })
  const lines = found?.lines ?? []
  const count = (state: Line['state']) => lines.filter((each) => each.state === state).length
  return (
    <Modal show onHide={close} animation={false} size="xl" aria-labelledby="bank-title">
      <Form
        onSubmit={(event) => {
          event.preventDefault()
          void record()
        }}
      >
        <Modal.Header closeButton>
          <Modal.Title as="h2" id="bank-title">
            Payments from a bank file
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          <Form.Group controlId="bank-file" className="mb-2">
            <Form.Label>CSV or XLSX, a row a payment</Form.Label>
            <Form.Control
              type="file"
              accept=".csv,.txt,.xlsx"
              autoFocus
              onChange={(event) => {
                const picked = (event.target as HTMLInputElement).files?.[0] ?? null
                setFile(picked)
                setFound(null)
                if (picked) void read(picked, {})
              }}
            />
          </Form.Group>
          {found && file && (
            <ColumnChoice
              wanted={WANTED}
              header={found.header}
              columns={found.columns}
              choose={(columns) => void read(file, columns)}
            />
          )}
          {found && lines.length === 0 && (
            <p className="near mb-0">
              {WANTED.slice(0, 3).every(([what]) => what in found.columns)
                ? 'The file has no rows.'
                : 'Choose the columns of the day, the amount and the text.'}
            </p>
          )}
          {lines.length > 0 && (
            <>
              <p className="mb-1" role="status">
                {whole(lines.length)} rows: {whole(count('fits'))} fit a statement by number and amount. Nothing is
                recorded until you say so.
              </p>
              <div className="scroll" style={{ maxHeight: '46vh' }} role="region" aria-label="Rows" tabIndex={0}>
                <table className="ledger small">
                  <thead>
                    <tr>
                      <th>Record for</th>
                      <th className="fig">Row</th>
                      <th>Day</th>
                      <th className="fig">Amount</th>
                      <th>Text</th>
                      <th>Fit</th>
                    </tr>
                  </thead>
                  <tbody>
                    {lines.slice(0, SHOWN).map((each) => (
                      <tr key={each.line}>
                        <td>
                          <Choice line={each} number={chosen.get(each.line) ?? ''} choose={choose} />
                        </td>
                        <td className="fig quiet">{each.row}</td>
                        <td className="text-nowrap">{each.day ? shortDay(each.day) : '–'}</td>
                        <td className="fig">{each.amount ? money(each.amount) : '–'}</td>
                        <td className="text-break">{each.text}</td>
                        <td>
                          <span className={each.state === 'fits' ? 'good' : each.state === 'fault' ? 'over' : 'near'}>
                            {SAYS[each.state]}
                          </span>
                          {each.says && <span className="quiet">: {each.says}</span>}
                        </td>
                      </tr>
                    ))}
                  </tbody>
                </table>
              </div>
              {lines.length > SHOWN && (
                <p className="quiet small mb-0">The first {SHOWN} rows are shown; what fits further down counts too.</p>
              )}
            </>
          )}
          {(reading.trouble || recording.trouble) && (
            <p className="over mt-2 mb-0" role="alert">
              {reading.trouble || recording.trouble}
            </p>
          )}
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-primary" onClick={close}>
            Cancel
          </Button>
          <Button type="submit" disabled={chosen.size === 0 || recording.busy}>
            Record {whole(chosen.size)} {chosen.size === 1 ? 'payment' : 'payments'}
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  )
}

/** Which statement a row pays: offered where there is any. */
function Choice({
  line,
  number,
  choose,
}: {
  line: Line
  number: string
  choose: (line: string, number: string | null) => void
}) {
  if (line.candidates.length === 0 || line.state === 'known') return <span className="quiet">–</span>
  return (
    <Form.Select
      size="sm"
      aria-label={`Row ${line.row} pays`}
      style={{ minWidth: 200 }}
      value={number}
      onChange={(event) => choose(line.line, event.target.value || null)}
    >
      <option value="">nothing</option>
      {line.candidates.map((each) => (
        <option key={each.number} value={each.number}>
          {each.number}, {each.buyer}: {money(each.open)} {each.currency}
        </option>
      ))}
    </Form.Select>
  )
}
