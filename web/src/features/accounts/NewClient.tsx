import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form, Modal } from 'react-bootstrap'
import { Sure } from '../../components/Sure'
import { api, take } from '../../api/client'
import { useAction } from '../../api/useAction'
import { templates as templatesQuery, type AccountBody } from '../../api/queries'
import type { NewAccount } from '../../domain/draft'
import { afterShape, parseLines } from '../../domain/newAccounts'
import { useDraft } from '../drafts/context'

const KINDS: Record<string, NewAccount['account_kind'][]> = {
  operator: ['client', 'reseller', 'sub-account'],
  reseller: ['client', 'sub-account'],
  client: ['sub-account'],
  'sub-account': ['sub-account'],
}

/** So many are offered to be made after. */
const MOST_MODELS = 200

/** One new account or a list of them, with another one's departments and allocations if wished; all of it goes into the draft. */
export function NewClient({ parent, day, close }: { parent: AccountBody; day: string; close: () => void }) {
  const draft = useDraft()
  const kinds = KINDS[parent.kind] ?? ['sub-account']
  const [text, setText] = useState('')
  const [kind, setKind] = useState<NewAccount['account_kind']>(kinds[0] ?? 'sub-account')
  const [like, setLike] = useState('')
  const [unallocated, setUnallocated] = useState<NewAccount['unallocated']>('none')
  const { run, trouble } = useAction()
  const lines = parseLines(
    text,
    parent.below.map((each) => each.account),
  )
  const wrong = lines.find((each) => each.wrong)
  const models = parent.below.filter((each) => each.kind === kind && each.status !== 'closed').slice(0, MOST_MODELS)
  const queries = useQueryClient()
  const templates = (useQuery(templatesQuery).data ?? []).filter((each) => each.shape.accounts[0]?.kind === kind)
  const [from, chosen] = [like.slice(0, like.indexOf(' ')), like.slice(like.indexOf(' ') + 1)]
  const create = async () => {
    await run(async () => {
      const shape =
        from === 'template'
          ? (templates.find((each) => each.name === chosen)?.shape ?? null)
          : from === 'account'
            ? await take(api.GET('/api/accounts/{account}/shape', { params: { path: { account: chosen } } }))
            : null
      draft.set(
        lines.flatMap((line) => afterShape(line, parent.account, kind, shape, `${day.slice(0, 7)}-01`, unallocated)),
      )
      close()
    })
  }
  const forget = async () => {
    await run(async () => {
      await take(api.DELETE('/api/accounts/templates/{name}', { params: { path: { name: chosen } } }))
      setLike('')
      await queries.invalidateQueries({ queryKey: templatesQuery.queryKey })
    })
  }
  return (
    <Modal show onHide={close} animation={false} size="lg" aria-labelledby="new-title">
      <Form
        onSubmit={(event) => {
          event.preventDefault()
          void create()
        }}
      >
        <Modal.Header closeButton>
          <Modal.Title as="h2" id="new-title">
            New below {parent.name}
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          <div className="shareform">
            <Form.Group controlId="new-kind">
              <Form.Label>Kind</Form.Label>
              <Form.Select value={kind} onChange={(event) => setKind(event.target.value as NewAccount['account_kind'])}>
                {kinds.map((each) => (
                  <option key={each}>{each}</option>
                ))}
              </Form.Select>
            </Form.Group>
            <Form.Group controlId="new-like" style={{ gridColumn: 'span 2' }}>
              <Form.Label>Copy departments, allocations and rates from</Form.Label>
              <Form.Select value={like} onChange={(event) => setLike(event.target.value)}>
                <option value="">none yet</option>
                {templates.length > 0 && (
                  <optgroup label="Templates">
                    {templates.map((each) => (
                      <option key={each.name} value={`template ${each.name}`}>
                        {each.name}
                      </option>
                    ))}
                  </optgroup>
                )}
                <optgroup label="Existing accounts">
                  {models.map((each) => (
                    <option key={each.account} value={`account ${each.account}`}>
                      {each.name}
                    </option>
                  ))}
                </optgroup>
              </Form.Select>
              {from === 'template' && (
                <Sure
                  act="Delete"
                  of="this template"
                  means="Accounts made from it stay."
                  run={() => void forget()}
                  inLine
                />
              )}
            </Form.Group>
          </div>
          <Form.Group controlId="new-unallocated" className="mb-2">
            <Form.Label>Products without an allocation</Form.Label>
            <Form.Select
              value={unallocated}
              onChange={(event) => setUnallocated(event.target.value as NewAccount['unallocated'])}
            >
              <option value="none">blocked until allocated</option>
              <option value="free">available up to what is free above</option>
            </Form.Select>
          </Form.Group>
          <Form.Group controlId="new-names">
            <Form.Label>
              One per line: name, admin’s address, billing contact’s address, code. Only the name is needed; a block
              from a spreadsheet can be pasted.
            </Form.Label>
            <Form.Control
              as="textarea"
              rows={4}
              autoFocus
              value={text}
              onChange={(event) => setText(event.target.value)}
              placeholder="Plover Chandlery; ada@plover.example; accounts@plover.example"
            />
          </Form.Group>
          {lines.length > 0 && (
            <table className="ledger tight mt-2" aria-label="Preview">
              <thead>
                <tr>
                  <th>Name</th>
                  <th>Code</th>
                  <th>Admin</th>
                  <th>Billing contact</th>
                </tr>
              </thead>
              <tbody>
                {lines.slice(0, 50).map((each, at) => (
                  <tr key={at}>
                    <td>
                      {each.name}
                      {each.wrong && <div className="over small">{each.wrong}</div>}
                    </td>
                    <td>{each.code}</td>
                    <td>{each.admin ?? <span className="near">none</span>}</td>
                    <td>{each.billing ?? <span className="near">none</span>}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
          <p className="quiet small mt-2">
            Without rates of its own, the rates {parent.name} has for all its buyers price it from the first day on.
          </p>
          {trouble && (
            <p className="over" role="alert">
              {trouble}
            </p>
          )}
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-primary" onClick={close}>
            Cancel
          </Button>
          <Button type="submit" disabled={!lines.length || wrong !== undefined}>
            {lines.length > 1 ? `Add ${lines.length} accounts to draft` : 'Add to draft'}
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  )
}
