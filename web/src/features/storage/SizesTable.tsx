import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form, Modal } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { ColumnChoice } from '../../components/ColumnChoice'
import { FaultTable } from '../../components/FaultTable'
import { whole } from '../../domain/units'
import { storageProducts } from './queries'

const WANTED = [
  ['account', 'Account, if any'],
  ['product', 'Product, if any'],
  ['person', 'Person'],
  ['folder', 'Shared folder'],
  ['category', 'Category'],
  ['at', 'When, if any'],
  ['bytes', 'Bytes'],
  ['used_at', 'Last use, if any'],
] as const

/** A table of sizes from any other system: columns first, then faults, then recorded whole. */
export function SizesTable({
  account,
  close,
  done,
}: {
  account: string
  close: () => void
  done: (said: string) => void
}) {
  const products = useQuery(storageProducts).data
  const [product, setProduct] = useState('')
  const [file, setFile] = useState<File | null>(null)
  const [found, setFound] = useState<Schemas['SizesTable'] | null>(null)
  const { run, busy, trouble } = useAction('storage')
  const of = product || (products?.[0]?.product ?? '')
  const query = (from: File, columns: Record<string, number>) => {
    const { account: ofAccount, product: ofProduct, ...others } = columns
    return {
      product: of,
      account,
      name: from.name,
      ...others,
      ...(ofAccount !== undefined && { column_account: ofAccount }),
      ...(ofProduct !== undefined && { column_product: ofProduct }),
    }
  }
  const sent = (from: File) => ({
    body: '',
    bodySerializer: () => from,
    headers: { 'Content-Type': 'application/octet-stream' },
  })
  const read = (from: File, columns: Record<string, number>) =>
    run(async () => {
      const params = { query: query(from, columns) }
      setFound(await take(api.POST('/api/storage-tables/read', { params, ...sent(from) })))
    })
  const record = () =>
    run(async () => {
      if (!file || !found) return
      const params = { query: query(file, found.columns) }
      const next = await take(api.POST('/api/storage-tables', { params, ...sent(file) }))
      if (next.fault_count) setFound(next)
      else done(`${whole(next.recorded ?? 0)} sizes recorded.`)
    })
  if (!products) return null // what is chosen before there is a product would be of none
  const ready = found !== null && found.rows > 0 && found.fault_count === 0
  return (
    <Modal show onHide={close} animation={false} size="lg" aria-labelledby="sizes-title">
      <Modal.Header closeButton>
        <Modal.Title as="h2" id="sizes-title">
          Upload sizes
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        <div className="d-flex gap-2 mb-2 flex-wrap">
          <Form.Group controlId="sizes-file" className="grow">
            <Form.Label>CSV, XLSX or JSON lines, a row a size</Form.Label>
            <Form.Control
              type="file"
              accept=".csv,.tsv,.txt,.xlsx,.jsonl,.ndjson"
              autoFocus
              onChange={(event) => {
                const picked = (event.target as HTMLInputElement).files?.[0] ?? null
                setFile(picked)
                setFound(null)
                if (picked) void read(picked, {})
              }}
            />
          </Form.Group>
          <Form.Group controlId="sizes-product">
            <Form.Label>Product</Form.Label>
            <Form.Select value={of} onChange={(event) => setProduct(event.target.value)}>
              {products.map((each) => (
                <option key={each.product} value={each.product}>
                  {each.name}
                </option>
              ))}
            </Form.Select>
          </Form.Group>
        </div>
        {found && file && (
          <ColumnChoice
            wanted={WANTED}
            header={found.header}
            columns={found.columns}
            choose={(columns) => void read(file, columns)}
          />
        )}
        {found && found.rows === 0 && found.fault_count === 0 && (
          <p className="near mb-0">Choose the columns of the bytes, and of a person, a shared folder or a category.</p>
        )}
        {found && (found.rows > 0 || found.fault_count > 0) && (
          <p role="status" className="mb-1">
            {found.fault_count
              ? `${whole(found.fault_count)} ${found.fault_count === 1 ? 'row has an error' : 'rows have errors'}; correct the file and choose it again. Nothing is recorded while there is one.`
              : `${whole(found.rows)} sizes, no errors.`}
          </p>
        )}
        {found && found.faults.length > 0 && <FaultTable faults={found.faults} />}
        {trouble && (
          <p className="over mt-2 mb-0" role="alert">
            {trouble}
          </p>
        )}
      </Modal.Body>
      <Modal.Footer>
        <Button variant="outline-primary" onClick={close}>
          Cancel
        </Button>
        <Button disabled={!ready || busy} onClick={() => void record()}>
          Record {found && ready ? whole(found.rows) : ''}
        </Button>
      </Modal.Footer>
    </Modal>
  )
}
