import { Dropdown } from 'react-bootstrap'

/** Print the screen as a sheet of its own; what it costs and the margin only if asked for. */
export function PrintMenu({ costs }: { costs: boolean }) {
  const print = (withCosts: boolean) => {
    document.body.classList.toggle('prints-costs', withCosts)
    window.print()
  }
  if (!costs)
    return (
      <button type="button" className="btn btn-outline-primary" onClick={() => print(true)}>
        Print
      </button>
    )
  return (
    <Dropdown align="end">
      <Dropdown.Toggle variant="outline-primary" id="print">
        Print
      </Dropdown.Toggle>
      <Dropdown.Menu>
        <Dropdown.Item as="button" onClick={() => print(false)}>
          Without cost and margin
        </Dropdown.Item>
        <Dropdown.Item as="button" onClick={() => print(true)}>
          With cost and margin
        </Dropdown.Item>
      </Dropdown.Menu>
    </Dropdown>
  )
}
