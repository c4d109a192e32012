import { Form } from 'react-bootstrap'
import type { Schemas } from '../../api/client'

type Leaving = Schemas['LeavingBody']

/** What becomes of what people store in the account they leave. */
export function LeavingChoice({
  moves,
  chosen,
  choose,
}: {
  /** They go to another account. */
  moves: boolean
  chosen: Leaving
  choose: (next: Leaving) => void
}) {
  return (
    <>
      <Form.Group controlId="leaving-what">
        <Form.Label>What they store</Form.Label>
        <Form.Select
          value={chosen.what}
          onChange={(event) => choose({ ...chosen, what: event.target.value as Leaving['what'] })}
        >
          <option value="keep">stays where it is</option>
          {moves && <option value="take">goes with them</option>}
          <option value="person">to a person</option>
          <option value="folder">to a shared folder</option>
          <option value="delete">deleted after days</option>
        </Form.Select>
      </Form.Group>
      {(chosen.what === 'person' || chosen.what === 'folder') && (
        <Form.Group controlId="leaving-to">
          <Form.Label>{chosen.what === 'person' ? 'Username' : 'Code of the folder'}</Form.Label>
          <Form.Control
            value={chosen.to ?? ''}
            autoComplete="off"
            onChange={(event) => choose({ ...chosen, to: event.target.value.trim() || null })}
          />
        </Form.Group>
      )}
      {chosen.what === 'delete' && (
        <Form.Group controlId="leaving-days">
          <Form.Label>Days until then</Form.Label>
          <Form.Control
            value={chosen.days ?? ''}
            inputMode="numeric"
            autoComplete="off"
            onChange={(event) => choose({ ...chosen, days: Number(event.target.value.replace(/\D/g, '')) || null })}
          />
        </Form.Group>
      )}
    </>
  )
}

/** Whether the choice says all that it needs. */
export function isWhole(chosen: Leaving): boolean {
  if (chosen.what === 'delete') return chosen.days !== null && chosen.days !== undefined
  return (chosen.what !== 'person' && chosen.what !== 'folder') || Boolean(chosen.to)
}
