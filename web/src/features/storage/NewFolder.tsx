import { useId, useState } from 'react'
import { Form } from 'react-bootstrap'
import { api, take } from '../../api/client'
import { useAction } from '../../api/useAction'
import { AccountSelect } from '../../components/AccountSelect'
import { FormDialog } from '../../components/FormDialog'

/** A shared folder of an account: there at once, with nothing in it; its limit and owner follow on its own dialog. */
export function NewFolder({
  product,
  account,
  close,
  done,
}: {
  product: string
  /** The account proposed; empty where a mistake would cost. */
  account: string
  close: () => void
  done: (said: string) => void
}) {
  const id = useId()
  const [name, setName] = useState('')
  const [code, setCode] = useState<string | null>(null)
  const [where, setWhere] = useState(account)
  const { run, busy, trouble } = useAction('storage')
  const said =
    code ??
    name
      .trim()
      .toUpperCase()
      .replaceAll(/[^A-Z0-9]+/g, '-')
      .slice(0, 64)
  const send = () =>
    run(async () => {
      const params = { path: { account: where, code: said.trim() }, query: { product } }
      const body = { name, owner: null, limit: null, stops: false, group: null }
      await take(api.PUT('/api/storage/folders/{account}/{code}', { params, body }))
      done(`Shared folder ${name.trim()} made.`)
    })
  return (
    <FormDialog
      id={id}
      title="New shared folder"
      submit="Make folder"
      busy={busy}
      ready={name.trim() !== '' && said.trim() !== '' && !said.includes('/') && where !== ''}
      trouble={trouble}
      send={() => void send()}
      close={close}
    >
      <div className="lotform">
        <Form.Group controlId={`${id}-name`}>
          <Form.Label>Name</Form.Label>
          <Form.Control value={name} maxLength={200} autoFocus onChange={(event) => setName(event.target.value)} />
        </Form.Group>
        <Form.Group controlId={`${id}-code`}>
          <Form.Label>Code, as storage systems report it</Form.Label>
          <Form.Control value={said} maxLength={64} onChange={(event) => setCode(event.target.value)} />
        </Form.Group>
        <Form.Group controlId={`${id}-where`} style={{ gridColumn: '1 / -1' }}>
          <Form.Label>Account</Form.Label>
          <AccountSelect value={where} onChange={setWhere} />
        </Form.Group>
      </div>
    </FormDialog>
  )
}
