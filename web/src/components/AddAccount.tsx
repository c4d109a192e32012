import { useEffect, useRef, useState, type ComponentProps } from 'react'
import { Button, Form } from 'react-bootstrap'
import { AccountSelect } from './AccountSelect'

interface Props {
  /** Names the choice to the form and to assistive technology. */
  id: string
  label: string
  add: (account: string) => void
  only?: ComponentProps<typeof AccountSelect>['only']
}

/** An account to add to a list: chosen first, then added, so that an arrow key adds nothing. */
export function AddAccount({ id, label, add, only }: Props) {
  const [account, setAccount] = useState('')
  const [added, setAdded] = useState(0)
  const row = useRef<HTMLDivElement>(null)
  useEffect(() => {
    if (added > 0) row.current?.querySelector<HTMLElement>('select, input')?.focus()
  }, [added])
  const take = () => {
    if (!account) return
    add(account)
    setAccount('')
    setAdded(added + 1)
  }
  return (
    <Form.Group controlId={id}>
      <Form.Label>{label}</Form.Label>
      <div
        ref={row}
        className="d-flex gap-2"
        onKeyDown={(event) => {
          if (event.key !== 'Enter' || event.ctrlKey || event.target instanceof HTMLButtonElement) return
          event.preventDefault() // which would send the form around it
          take()
        }}
      >
        <AccountSelect key={added} value={account} any="choose…" only={only} onChange={setAccount} />
        <Button size="sm" variant="outline-primary" disabled={!account} onClick={take}>
          Add
        </Button>
      </div>
    </Form.Group>
  )
}
