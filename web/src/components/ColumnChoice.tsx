import { Form } from 'react-bootstrap'

/** Which column of somebody else's file is what. */
export function ColumnChoice({
  wanted,
  header,
  columns,
  choose,
}: {
  /** What is wanted, and what it is called. */
  wanted: readonly (readonly [string, string])[]
  header: string[]
  /** The place of each in the file, as far as it is known. */
  columns: Record<string, number>
  choose: (columns: Record<string, number>) => void
}) {
  return (
    <div className="d-flex gap-2 mb-2 flex-wrap">
      {wanted.map(([what, label]) => (
        <Form.Group controlId={`column-${what}`} key={what} style={{ minWidth: 150 }}>
          <Form.Label>{label}</Form.Label>
          <Form.Select
            size="sm"
            value={columns[what] ?? ''}
            onChange={(event) => {
              const others = Object.entries(columns).filter(([key]) => key !== what)
              const mine = event.target.value === '' ? [] : [[what, Number(event.target.value)] as const]
              choose(Object.fromEntries([...others, ...mine]))
            }}
          >
            <option value="">Choose a column</option>
            {header.map((each, place) => (
              <option key={place} value={place}>
                {each || `Column ${place + 1}`}
              </option>
            ))}
          </Form.Select>
        </Form.Group>
      ))}
    </div>
  )
}
