import { useRef } from 'react'
import { Dropdown } from 'react-bootstrap'
import { api, fileAddress, messageOf, take } from '../api/client'
import { useOutcome } from './Outcome'

/** What is shown, whole: as CSV, as a workbook, or in the clipboard. */
export function ExportMenu({
  path,
  params,
  pdf,
  more = [],
  children,
}: {
  path: string
  params: Record<string, string | string[] | undefined>
  /** Where the same is to be had as a document. */
  pdf?: string
  /** Other files of the same. */
  more?: { name: string; path: string; params: Record<string, string> }[]
  /** Further entries of the menu. */
  children?: React.ReactNode
}) {
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
        {pdf && (
          <Dropdown.Item href={fileAddress(pdf, params)} download>
            PDF
          </Dropdown.Item>
        )}
        <Dropdown.Item href={fileAddress(path, { ...params, form: 'csv' })} download>
          CSV
        </Dropdown.Item>
        <Dropdown.Item href={fileAddress(path, { ...params, form: 'xlsx' })} download>
          XLSX workbook
        </Dropdown.Item>
        {more.map((each) => (
          <Dropdown.Item key={each.name} href={fileAddress(each.path, each.params)} download>
            {each.name}
          </Dropdown.Item>
        ))}
        <Dropdown.Item
          as="button"
          onClick={() => void copy().catch((error: unknown) => outcome(`Not copied: ${messageOf(error)}`))}
        >
          Copy to clipboard
        </Dropdown.Item>
        {children}
      </Dropdown.Menu>
    </Dropdown>
  )
}

type Cell = string | { figure: string }

/** A cell as it is shown: a figure as one where it is nothing but that. */
function cellOf(text: string): Cell {
  const bare = text.replace(/[\s\u00a0]/g, '').replace('−', '-')
  return /^-?\d{1,15}(\.\d{1,6})?$/.test(bare) && !/^-?0\d/.test(bare) ? { figure: bare } : text
}

const plainText = (cell: Cell) => (typeof cell === 'string' ? cell : cell.figure)

/** The same for a table that is on the screen whole: the one of this label, the first there is, or these rows. */
export function TableMenu({ name, of, rows }: { name: string; of?: string; rows?: () => string[][] }) {
  const outcome = useOutcome()
  const here = useRef<HTMLDivElement>(null)
  const shown = (): Cell[][] => {
    if (rows) return rows().map((row) => row.map(cellOf))
    const within = here.current?.closest('main, .modal')
    const table = of
      ? within?.querySelector(`table[aria-label="${of}"], [aria-label="${of}"] table`)
      : within?.querySelector('table.ledger')
    const lines = [...(table?.querySelectorAll('tr') ?? [])].map((row) => [...row.querySelectorAll('th, td')])
    const kept = (lines[0] ?? []).map((head) => !head.querySelector('.visually-hidden'))
    return lines.map((cells) =>
      cells
        .filter((_, at) => kept[at] !== false)
        .map((cell) => cellOf((cell as HTMLElement).innerText.replace(/[^\S\u00a0]+/g, ' ').trim())),
    )
  }
  const copy = async () => {
    const lines = shown()
    await navigator.clipboard.writeText(lines.map((line) => line.map(plainText).join('\t')).join('\n'))
    outcome(`${Math.max(0, lines.length - 1)} rows copied.`)
  }
  const keep = (content: Blob, form: string) => {
    const link = document.createElement('a')
    link.href = URL.createObjectURL(content)
    link.download = `${name}.${form}`
    link.click()
    URL.revokeObjectURL(link.href)
  }
  const saveCsv = () => {
    const quoted = (cell: Cell) => {
      const text = plainText(cell)
      const harmless = typeof cell === 'string' && /^[=+\-@\t\r]/.test(text) ? `'${text}` : text
      return /[",\n]/.test(harmless) ? `"${harmless.replaceAll('"', '""')}"` : harmless
    }
    const text = shown()
      .map((line) => line.map(quoted).join(','))
      .join('\r\n')
    keep(new Blob([text], { type: 'text/csv' }), 'csv')
  }
  const saveXlsx = async () => {
    const [columns = [], ...cells] = shown()
    const body = { name, columns: columns.map(plainText), rows: cells }
    const made: unknown = await take(api.POST('/api/tables/xlsx', { body, parseAs: 'blob' }))
    keep(made as Blob, 'xlsx')
  }
  const failed = (error: unknown) => outcome(`Not exported: ${messageOf(error)}`)
  return (
    <Dropdown align="end" ref={here}>
      <Dropdown.Toggle variant="outline-primary" id={`export-${name}`}>
        Export
      </Dropdown.Toggle>
      <Dropdown.Menu>
        <Dropdown.Item as="button" onClick={saveCsv}>
          CSV
        </Dropdown.Item>
        <Dropdown.Item as="button" onClick={() => void saveXlsx().catch(failed)}>
          XLSX workbook
        </Dropdown.Item>
        <Dropdown.Item as="button" onClick={() => void copy().catch(failed)}>
          Copy to clipboard
        </Dropdown.Item>
      </Dropdown.Menu>
    </Dropdown>
  )
}
