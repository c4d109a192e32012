import { useQuery } from '@tanstack/react-query'
import { useDeferredValue } from 'react'
import { Form } from 'react-bootstrap'
import { api, take } from '../../api/client'

/** A person by username, found as one types. */
export function PersonField({
  id,
  label,
  value,
  onChange,
  autoFocus = false,
  hidden = false,
}: {
  id: string
  label: React.ReactNode
  /** Whether its label is read only, not seen. */ hidden?: boolean
  value: string
  onChange: (username: string) => void
  autoFocus?: boolean
}) {
  const find = useDeferredValue(value.trim())
  const found = useQuery({
    queryKey: ['people', 'named like', find],
    enabled: find.length > 1,
    staleTime: 30_000,
    queryFn: () => take(api.GET('/api/people', { params: { query: { find: find.replaceAll('.', ' '), limit: 12 } } })),
  })
  return (
    <Form.Group controlId={id}>
      <Form.Label visuallyHidden={hidden}>{label}</Form.Label>
      <Form.Control
        value={value}
        list={`${id}-found`}
        maxLength={128}
        autoFocus={autoFocus}
        autoComplete="off"
        placeholder="username"
        onChange={(event) => onChange(event.target.value)}
      />
      <datalist id={`${id}-found`}>
        {found.data?.rows.map((each) => (
          <option key={each.username} value={each.username}>
            {each.name}, {each.account_name}
          </option>
        ))}
      </datalist>
    </Form.Group>
  )
}
