import { useState } from 'react'
import { Button, Form, Modal } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { ColumnChoice } from '../../components/ColumnChoice'
import { TableMenu } from '../../components/ExportMenu'
import { minus, money, signed, sum } from '../../domain/money'
import { decimal, whole } from '../../domain/units'

type Line = Schemas['InvoiceLineBody']
const WANTED = [
  ['reference', 'Order or lot'],
  ['product', 'Product'],
  ['quantity', 'Quantity, if any'],
  ['amount', 'Amount'],
  ['currency', 'Currency, if any'],
] as const
const grouped = (figure: string) => decimal(figure, figure.split('.')[1]?.length ?? 0)
const SAYS: Record<Line['state'], [string, string]> = {
  fits: ['fits', 'good'],
  differs: ['differs', 'near'],
  twice: ['twice', 'near'],
  missing: ['not invoiced', 'near'],
  unknown: ['no lot', 'over'],
  fault: ['not read', 'over'],
}

/** A vendor's invoice held against what was bought, line by line. */
export function InvoiceCheck({ owner, present, close }: { owner: string; present: string; close: () => void }) {
  const [file, setFile] = useState<File | null>(null)
  const [month, setMonth] = useState(present)
  const [found, setFound] = useState<Schemas['InvoiceBody'] | null>(null)
  const { run, trouble } = useAction()
  const read = (from: File, of: string, columns: Record<string, number>) =>
    run(async () => {
      setFound(
        await take(
          api.POST('/api/vendor-invoices', {
            params: { query: { owner, month: of, name: from.name, ...columns } },
            body: '',
            bodySerializer: () => from,
            headers: { 'Content-Type': 'application/octet-stream' },
          }),
        ),
      )
    })
  const lines = found?.lines ?? []
  const differing = lines.filter((each) => each.state !== 'fits')
  const invoiced = sum(lines.map((each) => each.amount ?? '0'))
  const expected = sum(lines.filter((each) => each.state !== 'twice').map((each) => each.expected ?? '0'))
  const currencies = new Set(lines.map((each) => each.currency).filter(Boolean))
  return (
    <Modal show onHide={close} animation={false} size="xl" aria-labelledby="invoice-title">
      <Modal.Header closeButton>
        <Modal.Title as="h2" id="invoice-title">
          Check a vendor’s invoice
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        <div className="d-flex gap-2 mb-2 flex-wrap">
          <Form.Group controlId="invoice-file" className="grow">
            <Form.Label>CSV or XLSX, a row a line</Form.Label>
            <Form.Control
              type="file"
              accept=".csv,.txt,.xlsx"
              autoFocus
              onChange={(event) => {
                const picked = (event.target as HTMLInputElement).files?.[0] ?? null
                setFile(picked)
                setFound(null)
                if (picked) void read(picked, month, {})
              }}
            />
          </Form.Group>
          <Form.Group controlId="invoice-month">
            <Form.Label>For the month</Form.Label>
            <Form.Control
              type="month"
              value={month}
              onChange={(event) => {
                if (!/^\d{4}-\d\d$/.test(event.target.value)) return
                setMonth(event.target.value)
                if (file) void read(file, event.target.value, found?.columns ?? {})
              }}
            />
          </Form.Group>
        </div>
        {found && file && (
          <ColumnChoice
            wanted={WANTED}
            header={found.header}
            columns={found.columns}
            choose={(columns) => void read(file, month, columns)}
          />
        )}
        {found && lines.length === 0 && (
          <p className="near mb-0">Choose the columns of the amount, and of the order or the product.</p>
        )}
        {lines.length > 0 && (
          <>
            <div className="d-flex align-items-center gap-2 mb-1">
              <span role="status" className="grow">
                {differing.length === 0
                  ? `All ${whole(lines.length)} lines fit.`
                  : `${whole(differing.length)} of ${whole(lines.length)} lines differ.`}
                {currencies.size === 1 && (
                  <>
                    {' '}
                    Invoiced {money(invoiced)}, expected {money(expected)} {[...currencies][0]}:{' '}
                    <b>{signed(minus(invoiced, expected))}</b>.
                  </>
                )}
              </span>
              <TableMenu name={`invoice-${month}`} of="Invoice lines" />
            </div>
            <div className="scroll" style={{ maxHeight: '46vh' }} role="region" aria-label="Invoice lines" tabIndex={0}>
              <table className="ledger small">
                <thead>
                  <tr>
                    <th className="fig">Row</th>
                    <th>Invoiced for</th>
                    <th>Lot</th>
                    <th className="fig">Quantity</th>
                    <th className="fig">Bought</th>
                    <th className="fig">Amount</th>
                    <th className="fig">Expected</th>
                    <th>Match</th>
                  </tr>
                </thead>
                <tbody>
                  {lines.map((each, place) => {
                    const [says, tone] = SAYS[each.state]
                    return (
                      <tr key={place}>
                        <td className="fig quiet">{each.row ?? '–'}</td>
                        <td className="text-break">{each.text || '–'}</td>
                        <td>
                          {each.lot ?? '–'} <span className="quiet">{each.product}</span>
                        </td>
                        <td className="fig">{each.quantity === null ? '–' : grouped(each.quantity)}</td>
                        <td className="fig">
                          {each.expected_quantity === null ? '–' : grouped(each.expected_quantity)}
                        </td>
                        <td className="fig text-nowrap">{each.amount === null ? '–' : money(each.amount)}</td>
                        <td className="fig text-nowrap">{each.expected === null ? '–' : money(each.expected)}</td>
                        <td>
                          <span className={tone}>{says}</span>
                          {each.says && <span className="quiet">: {each.says}</span>}
                        </td>
                      </tr>
                    )
                  })}
                </tbody>
              </table>
            </div>
          </>
        )}
        {trouble && (
          <p className="over mt-2 mb-0" role="alert">
            {trouble}
          </p>
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
