import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { api, take } from '../../api/client'
import { useCan } from '../../api/queries'
import { useAction } from '../../api/useAction'
import { AccountSelect } from '../../components/AccountSelect'
import { useOutcome } from '../../components/Outcome'
import type { FolderState } from '../../domain/draft'
import { dayOf, longDay } from '../../domain/months'
import { parseUnits, units } from '../../domain/units'
import { useDraft } from '../drafts/context'
import { groupsOf } from './limits'
import type { StorageRow } from './queries'

/** Who looks after a shared folder, what it may store, and where it goes. */
export function FolderForm({
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
  const drafts = useCan('drafts.change')
  const draft = useDraft()
  const params = { path: { account: row.account, code: row.name }, query: { product } }
  const found = useQuery({
    queryKey: ['storage', 'folder', product, row.account, row.name],
    queryFn: () => take(api.GET('/api/storage/folders/{account}/{code}', { params })),
  })
  const { run, busy, trouble } = useAction('storage')
  const outcome = useOutcome()
  const [moving, setMoving] = useState('')
  const [typed, setTyped] = useState<{
    name?: string
    owner?: string
    limit?: string
    stops?: boolean
    group?: string
  }>({})
  const groups = useQuery({ ...groupsOf(row.account), enabled: changes }).data
  if (found.data === undefined) return null
  const there = found.data
  const name = typed.name ?? there?.name ?? row.name
  const owner = typed.owner ?? there?.owner ?? ''
  const limit = typed.limit ?? (there?.limit == null ? '' : units(there.limit, perUnit).replaceAll('\u00a0', ''))
  const group = typed.group ?? there?.group ?? ''
  const stops = typed.stops ?? there?.stops ?? false
  const grains = limit.trim() === '' ? null : parseUnits(limit, perUnit)
  const wrong = limit.trim() !== '' && grains === null
  const save = () =>
    run(async () => {
      const body = { name, owner: owner.trim() || null, limit: grains, stops, group: group || null }
      await take(api.PUT('/api/storage/folders/{account}/{code}', { params, body }))
      outcome(`${name} saved.`)
      close()
    })
  const state: FolderState = there?.delete_at ? 'deleted' : there?.archived_at ? 'archived' : 'open'
  const toDraft = (what: FolderState) => {
    draft.set([{ kind: 'folder', account: row.account, product, folder: row.name, state: what, was: state }])
    outcome(`${name} ${what}: added to draft.`)
    close()
  }
  const act = (what: 'archive' | 'open' | 'delete' | 'move') =>
    run(async () => {
      const body = { act: what, to_account: what === 'move' ? moving : null }
      const done = await take(api.POST('/api/storage/folders/{account}/{code}', { params, body }))
      outcome(
        {
          archive: `${name} is archived; nothing more is written to it.`,
          open: `${name} is open again.`,
          delete: `${name} is deleted on ${done.delete_at ? longDay(dayOf(done.delete_at)) : ''}, unless it is opened before.`,
          move: `${units(done.moved ?? 0, perUnit)} GB of ${name} moved.`,
        }[what],
      )
      close()
    })
  return (
    <section aria-label="Shared folder" className="mb-2">
      <p className="quiet small mb-1">
        {there?.delete_at
          ? `Deleted on ${longDay(dayOf(there.delete_at))}, unless it is opened before.`
          : there?.archived_at
            ? 'Archived: nothing more is written to it.'
            : there === null || there.is_orphaned
              ? 'Nobody of this account looks after it.'
              : `Looked after by ${there.owner_name ?? ''}.`}
      </p>
      {changes && (
        <>
          <div className="lotform three">
            <Form.Group controlId="folder-name">
              <Form.Label>Name</Form.Label>
              <Form.Control value={name} onChange={(event) => setTyped({ ...typed, name: event.target.value })} />
            </Form.Group>
            <Form.Group controlId="folder-owner">
              <Form.Label>Owner, a username</Form.Label>
              <Form.Control
                value={owner}
                placeholder="nobody"
                onChange={(event) => setTyped({ ...typed, owner: event.target.value })}
              />
            </Form.Group>
            <Form.Group controlId="folder-limit">
              <Form.Label>Limit, GB</Form.Label>
              <Form.Control
                value={limit}
                placeholder="none"
                inputMode="decimal"
                isInvalid={wrong}
                onChange={(event) => setTyped({ ...typed, limit: event.target.value })}
              />
            </Form.Group>
          </div>
          {(groups?.length ?? 0) > 0 && (
            <Form.Group controlId="folder-group" className="mt-1">
              <Form.Label>Of</Form.Label>
              <Form.Select
                value={group}
                style={{ width: 'auto' }}
                onChange={(event) => setTyped({ ...typed, group: event.target.value })}
              >
                <option value="">everybody in {row.account_name}</option>
                {groups?.map((each) => (
                  <option key={each.code} value={each.code}>
                    group {each.name}
                  </option>
                ))}
              </Form.Select>
            </Form.Group>
          )}
          <Form.Check
            id="folder-stops"
            className="my-1"
            label="Stop new writes at the limit"
            checked={stops}
            disabled={grains === null}
            onChange={(event) => setTyped({ ...typed, stops: event.target.checked })}
          />
          {trouble && (
            <p className="over small mb-1" role="alert">
              {trouble}
            </p>
          )}
          <div className="d-flex gap-2 flex-wrap align-items-center">
            <Button size="sm" disabled={busy || wrong || Object.keys(typed).length === 0} onClick={() => void save()}>
              Save
            </Button>
            {there?.archived_at ? (
              <Button
                size="sm"
                variant="outline-primary"
                disabled={busy}
                onClick={() => (drafts ? toDraft('open') : void act('open'))}
              >
                {there.delete_at ? 'Keep and open' : 'Open again'}
              </Button>
            ) : (
              <Button
                size="sm"
                variant="outline-primary"
                disabled={busy}
                onClick={() => (drafts ? toDraft('archived') : void act('archive'))}
              >
                Archive
              </Button>
            )}
            {!there?.delete_at && (
              <Button
                size="sm"
                variant="outline-primary"
                disabled={busy}
                onClick={() => (drafts ? toDraft('deleted') : void act('delete'))}
              >
                Delete in 30 days
              </Button>
            )}
            <span className="grow" />
            <Form.Group controlId="folder-to">
              <Form.Label className="visually-hidden">Move to</Form.Label>
              <AccountSelect value={moving} any="Move to…" onChange={setMoving} />
            </Form.Group>
            <Button
              size="sm"
              variant="outline-primary"
              disabled={busy || moving === '' || moving === row.account}
              onClick={() => void act('move')}
            >
              Move
            </Button>
          </div>
        </>
      )}
    </section>
  )
}
