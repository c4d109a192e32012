import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { api, take } from '../../api/client'
import { useCan } from '../../api/queries'
import { useAction } from '../../api/useAction'
import { useOutcome } from '../../components/Outcome'
import { dayOf, longDay } from '../../domain/months'
import { units } from '../../domain/units'
import type { StorageRow } from './queries'

/** What becomes of what somebody left behind. */
export function LeftBehind({
  product,
  perUnit,
  row,
  close,
}: {
  product: string
  perUnit: number
  row: StorageRow
  close: () => void
}) {
  const changes = useCan('layers.change')
  const params = { path: { account: row.account, name: row.name }, query: { product } }
  const at = useQuery({
    queryKey: ['storage', 'left behind', product, row.account, row.name],
    queryFn: () => take(api.GET('/api/storage/left-behind/{account}/{name}', { params })),
  }).data?.delete_at
  const [to, setTo] = useState<'person' | 'folder'>('person')
  const [name, setName] = useState('')
  const [days, setDays] = useState('30')
  const { run, busy, trouble } = useAction('storage', 'people')
  const outcome = useOutcome()
  const act = (what: 'move' | 'delete' | 'keep') =>
    run(async () => {
      const whom = { person: to === 'person' ? name.trim() : null, folder: to === 'folder' ? name.trim() : null }
      const body = { act: what, days: Number(days), ...(what === 'move' && whom) }
      const done = await take(api.POST('/api/storage/left-behind/{account}/{name}', { params, body }))
      outcome(
        {
          move: `${units(done.moved ?? 0, perUnit)} GB moved to ${name.trim()}.`,
          delete: `Deleted on ${done.delete_at ? longDay(dayOf(done.delete_at)) : ''}, unless it is kept before.`,
          keep: 'It is kept.',
        }[what],
      )
      close()
    })
  return (
    <section aria-label="Left behind" className="mb-2">
      {at && <p className="near small mb-1">Deleted on {longDay(dayOf(at))}, unless it is kept before.</p>}
      {changes && (
        <>
          <div className="d-flex gap-2 flex-wrap align-items-end">
            <Form.Group controlId="left-to">
              <Form.Label>Move to</Form.Label>
              <Form.Select size="sm" value={to} onChange={(event) => setTo(event.target.value as 'person' | 'folder')}>
                <option value="person">a person</option>
                <option value="folder">a shared folder</option>
              </Form.Select>
            </Form.Group>
            <Form.Group controlId="left-name">
              <Form.Label>{to === 'person' ? 'Username' : 'Code of the folder'}</Form.Label>
              <Form.Control
                size="sm"
                value={name}
                autoComplete="off"
                onChange={(event) => setName(event.target.value)}
              />
            </Form.Group>
            <Button
              size="sm"
              variant="outline-primary"
              disabled={busy || !name.trim()}
              onClick={() => void act('move')}
            >
              Move
            </Button>
            <span className="grow" />
            {at ? (
              <Button size="sm" variant="outline-primary" disabled={busy} onClick={() => void act('keep')}>
                Keep
              </Button>
            ) : (
              <>
                <Form.Group controlId="left-days">
                  <Form.Label>Days until then</Form.Label>
                  <Form.Control
                    size="sm"
                    value={days}
                    inputMode="numeric"
                    style={{ width: 90 }}
                    onChange={(event) => setDays(event.target.value)}
                  />
                </Form.Group>
                <Button
                  size="sm"
                  variant="outline-primary"
                  disabled={busy || !/^\d{1,3}$/.test(days)}
                  onClick={() => void act('delete')}
                >
                  Delete
                </Button>
              </>
            )}
          </div>
          {trouble && (
            <p className="over small mb-0 mt-1" role="alert">
              {trouble}
            </p>
          )}
        </>
      )}
    </section>
  )
}
