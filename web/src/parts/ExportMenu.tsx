import { Dropdown } from 'react-bootstrap'
import { fileAddress } from '../api/client'

/** What is shown, as a file: CSV or a workbook. */
export function ExportMenu({ path, params }: { path: string; params: Record<string, string | string[] | undefined> }) {
  return (
    <Dropdown align="end">
      <Dropdown.Toggle variant="outline-primary" id="export">
        Export
      </Dropdown.Toggle>
      <Dropdown.Menu>
        <Dropdown.Item href={fileAddress(path, { ...params, form: 'csv' })} download>
          CSV
        </Dropdown.Item>
        <Dropdown.Item href={fileAddress(path, { ...params, form: 'xlsx' })} download>
          XLSX workbook
        </Dropdown.Item>
      </Dropdown.Menu>
    </Dropdown>
  )
}
