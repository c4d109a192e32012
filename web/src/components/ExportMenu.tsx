import { useQuery } from '@tanstack/react-query'
import { useRef, useState } from 'react'
import { Dropdown } from 'react-bootstrap'
import { api, ApiError, fileAddress, messageOf, take } from '../api/client'
import { me } from '../api/queries'
import { instantName, monthName } from '../domain/months'
import { whole } from '../domain/units'
import { ExportColumns, useExportColumns } from './ExportColumns'
import { useOutcome } from './Outcome'
import { forReaders, printSheet, withoutCosts, type Cell, type Table } from './printing'

const NO_ROWS = 'Nothing to print: the list is empty.'

/** Prints a table of a screen or dialog: under its heading, with what it is narrowed to, whose it is, and of when. */
function usePrint() {
  const who = useQuery(me).data
  return (menu: HTMLElement | null, facts: string[], table: Table) => {
    const within = menu?.closest('main, .modal')
    const title = within?.querySelector('h1, .modal-title')?.textContent ?? ''
    const chips = [...(within?.querySelectorAll('.chips .chip') ?? [])].map((each) =>
      (each.textContent ?? '').replace('×', '').trim(),
    )
    const count = `${whole(table.rows.length)} ${table.rows.length === 1 ? 'row' : 'rows'}`
    const own = who ? [who.running.name, instantName(new Date().toISOString())] : []
    printSheet(title, [...facts, ...chips, count, ...own], table)
  }
}

/** An answer that is no refusal. */
async function asked(address: string): Promise<Response> {
  const answer = await fetch(address)
  if (answer.ok) return answer
  throw new ApiError(answer.status, await answer.json().catch(() => null), new URL(answer.url).pathname)
}

function PrintItems({ costs, print }: { costs: boolean; print: (withCosts: boolean) => void }) {
  return (
    <>
      <Dropdown.Item as="button" onClick={() => print(false)}>
        Print
      </Dropdown.Item>
      {costs && (
        <Dropdown.Item as="button" onClick={() => print(true)}>
          Print with costs
        </Dropdown.Item>
      )}
    </>
  )
}

/** What is shown, whole: as CSV, as a workbook, in the clipboard, or on paper. */
export function ExportMenu({
  path,
  named = path,
  params,
  pdf,
  more = [],
  costs = false,
  prints = true,
  children,
}: {
  path: string
  /** Whose choice of columns is remembered, where the path says which of many lists of one kind it is. */
  named?: string
  params: Record<string, string | string[] | undefined>
  /** Where the same is to be had as a document. */
  pdf?: string
  /** Other files of the same. */
  more?: { name: string; path: string; params: Record<string, string> }[]
  /** Whether it says what things cost: printed only if asked for. */
  costs?: boolean
  /** Whether it is printed as a table; a screen may have a sheet of its own. */
  prints?: boolean
  /** Further entries of the menu. */
  children?: React.ReactNode
}) {
  const outcome = useOutcome()
  const here = useRef<HTMLDivElement>(null)
  const print = usePrint()
  const [columns, setColumns] = useExportColumns(named)
  const [choosing, setChoosing] = useState<string[] | null>(null)
  const address = (form: 'csv' | 'xlsx' | 'tsv' | 'print' | 'columns') =>
    fileAddress(path, { ...params, form, ...(form !== 'columns' && { column: columns }) })
  const onPaper = async (withCosts: boolean) => {
    const found = (await (await asked(address('print'))).json()) as Table & { more: boolean }
    if (found.more)
      throw new Error(`there are more than ${whole(found.rows.length)} rows. Narrow the list, or export it.`)
    if (found.rows.length === 0) return outcome(NO_ROWS)
    const { month, find } = params
    const facts = [
      typeof month === 'string' ? monthName(month) : '',
      typeof find === 'string' && find ? `“${find}”` : '',
    ]
    print(here.current, facts, forReaders(withCosts ? found : withoutCosts(found)))
  }
  const copy = async () => {
    const text = await (await asked(address('tsv'))).text()
    await navigator.clipboard.writeText(text)
    outcome(`${Math.max(0, text.trimEnd().split('\n').length - 1)} rows copied.`)
  }
  const choose = async () => setChoosing((await (await asked(address('columns'))).json()) as string[])
  const or = (says: string) => (error: unknown) => outcome(`${says}: ${messageOf(error)}`)
  return (
    <Dropdown align="end" ref={here}>
      <Dropdown.Toggle variant="outline-primary" id="export">
        Export
      </Dropdown.Toggle>
      <Dropdown.Menu>
        {pdf && (
          <Dropdown.Item href={fileAddress(pdf, params)} download>
            PDF
          </Dropdown.Item>
        )}
        <Dropdown.Item href={address('csv')} download>
          CSV
        </Dropdown.Item>
        <Dropdown.Item href={address('xlsx')} download>
          XLSX workbook
        </Dropdown.Item>
        {more.map((each) => (
          <Dropdown.Item key={each.name} href={fileAddress(each.path, each.params)} download>
            {each.name}
          </Dropdown.Item>
        ))}
        <Dropdown.Item as="button" onClick={() => void copy().catch(or('Not copied'))}>
          Copy to clipboard
        </Dropdown.Item>
        {prints && <PrintItems costs={costs} print={(withCosts) => void onPaper(withCosts).catch(or('Not printed'))} />}
        <Dropdown.Item as="button" onClick={() => void choose().catch(or('Columns not loaded'))}>
          Columns…{columns.length > 0 && ` (${columns.length} chosen)`}
        </Dropdown.Item>
        {children}
      </Dropdown.Menu>
      {choosing && (
        <ExportColumns columns={choosing} chosen={columns} choose={setColumns} close={() => setChoosing(null)} />
      )}
    </Dropdown>
  )
}

type Shown = Exclude<Cell, null>

/** A cell as it is shown: a figure as one where it is nothing but that. */
function cellOf(text: string): Shown {
  const bare = text.replace(/[\s\u00a0]/g, '').replace('−', '-')
  return /^-?\d{1,15}(\.\d{1,6})?$/.test(bare) && !/^-?0\d/.test(bare) ? { figure: bare } : text
}

const plainText = (cell: Shown) => (typeof cell === 'string' ? cell : cell.figure)

/** The same for a table that is on the screen whole: the one of this label, the first there is, or these rows. */
export function TableMenu({
  name,
  of,
  costs = false,
  rows,
  label,
}: {
  name: string
  of?: string
  /** What the menu is called, where a screen has several. */
  label?: string
  /** Whether it has columns (of class `costs`) that say what things cost: printed only if asked for. */
  costs?: boolean
  rows?: () => string[][]
}) {
  const outcome = useOutcome()
  const print = usePrint()
  const [columns, setColumns] = useExportColumns(name)
  const [choosing, setChoosing] = useState<string[] | null>(null)
  const here = useRef<HTMLDivElement>(null)
  const all = (withCosts: boolean): Shown[][] => {
    if (rows) return rows().map((row) => row.map(cellOf))
    const within = here.current?.closest('main, .modal')
    const table = of
      ? within?.querySelector(`table[aria-label="${of}"], [aria-label="${of}"] table`)
      : within?.querySelector('table.ledger')
    const lines = [...(table?.querySelectorAll('tr') ?? [])].map((row) => [...row.querySelectorAll('th, td')])
    const kept = (lines[0] ?? []).map(
      (head) => !head.querySelector('.visually-hidden') && (withCosts || !head.classList.contains('costs')),
    )
    return lines.map((cells) =>
      cells
        .filter((_, at) => kept[at] !== false)
        .map((cell) => cellOf((cell as HTMLElement).innerText.replace(/[^\S\u00a0]+/g, ' ').trim())),
    )
  }
  const shown = (withCosts = true): Shown[][] => {
    const lines = all(withCosts)
    const heads = (lines[0] ?? []).map(plainText)
    const some = heads.some((each) => columns.includes(each))
    return some ? lines.map((cells) => cells.filter((_, at) => columns.includes(heads[at] ?? ''))) : lines
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
    const quoted = (cell: Shown) => {
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
  const onPaper = (withCosts: boolean) => {
    const [columns = [], ...cells] = shown(withCosts)
    if (cells.length === 0) return outcome(NO_ROWS)
    const table = { columns: columns.map(plainText), rows: cells, totals: [] }
    print(here.current, [], rows ? forReaders(table) : table)
  }
  const failed = (error: unknown) => outcome(`Not exported: ${messageOf(error)}`)
  return (
    <Dropdown align="end" ref={here}>
      <Dropdown.Toggle
        variant="outline-primary"
        id={`export-${name}`}
        aria-label={label}
        {...(label !== undefined && { size: 'sm' as const })}
      >
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
        <PrintItems costs={costs} print={onPaper} />
        <Dropdown.Item as="button" onClick={() => setChoosing((all(true)[0] ?? []).map(plainText))}>
          Columns…{columns.length > 0 && ` (${columns.length} chosen)`}
        </Dropdown.Item>
      </Dropdown.Menu>
      {choosing && (
        <ExportColumns columns={choosing} chosen={columns} choose={setColumns} close={() => setChoosing(null)} />
      )}
    </Dropdown>
  )
}
