import { useRef } from 'react'
import { Dropdown } from 'react-bootstrap'
import { fileAddress, messageOf } from '../api/client'
import { useOutcome } from './Outcome'

/** What is shown, whole: as CSV, as a workbook, or in the clipboard. */
export function ExportMenu({ path, params }: { path: string; params: Record<string, string | string[] | undefined> }) {
  const outcome = useOutcome()
  const copy = async () => {
    const answer = await fetch(fileAddress(path, { ...params, form: 'tsv' }))
    if (!answer.ok) throw new Error(`The server answered ${answer.status}.`)
    const text = await answer.text()
    await navigator.clipboard.writeText(text)
    outcome(`${Math.max(0, text.trimEnd().split('\n').length - 1)} rows copied.`)
  }
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
        <Dropdown.Item
          as="button"
          onClick={() => void copy().catch((error: unknown) => outcome(`Not copied: ${messageOf(error)}`))}
        >
          Copy to clipboard
        </Dropdown.Item>
      </Dropdown.Menu>
    </Dropdown>
  )
}

/** The same for a table that is on the screen whole. */
export function TableMenu({ name }: { name: string }) {
  const outcome = useOutcome()
  const here = useRef<HTMLDivElement>(null)
  const rows = () => {
    const table = here.current?.closest('main, .modal')?.querySelector('table.ledger')
    const lines = [...(table?.querySelectorAll('tr') ?? [])].map((row) => [...row.querySelectorAll('th, td')])
    const shown = (lines[0] ?? []).map((head) => !head.querySelector('.visually-hidden'))
    return lines.map((cells) =>
      cells
        .filter((_, at) => shown[at] !== false)
        .map((cell) => (cell as HTMLElement).innerText.replace(/\s+/g, ' ').trim()),
    )
  }
  const copy = async () => {
    const lines = rows()
    await navigator.clipboard.writeText(lines.map((line) => line.join('\t')).join('\n'))
    outcome(`${Math.max(0, lines.length - 1)} rows copied.`)
  }
  const save = () => {
    const quoted = (text: string) => {
      const harmless = /^[=+\-@]/.test(text) ? `'${text}` : text
      return /[",\n]/.test(harmless) ? `"${harmless.replaceAll('"', '""')}"` : harmless
    }
    const text = rows()
      .map((line) => line.map(quoted).join(','))
      .join('\r\n')
    const link = document.createElement('a')
    link.href = URL.createObjectURL(new Blob([text], { type: 'text/csv' }))
    link.download = `${name}.csv`
    link.click()
    URL.revokeObjectURL(link.href)
  }
  return (
    <Dropdown align="end" ref={here}>
      <Dropdown.Toggle variant="outline-primary" id={`export-${name}`}>
        Export
      </Dropdown.Toggle>
      <Dropdown.Menu>
        <Dropdown.Item as="button" onClick={save}>
          CSV
        </Dropdown.Item>
        <Dropdown.Item
          as="button"
          onClick={() => void copy().catch((error: unknown) => outcome(`Not copied: ${messageOf(error)}`))}
        >
          Copy to clipboard
        </Dropdown.Item>
      </Dropdown.Menu>
    </Dropdown>
  )
}
