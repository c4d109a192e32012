import { dayName, instantName } from '../domain/months'
import { decimal } from '../domain/units'

/** A cell of a table as it is sent or printed: text, or a figure. */
export type Cell = string | { figure: string } | null

/** A table; totals stand beneath it, the first cell of each saying of what. */
export interface Table {
  columns: string[]
  rows: Cell[][]
  totals: Cell[][]
}

const COSTS = new Set(['cost', 'margin'])
const WIDE = 8
const DAY = /^\d{4}-\d\d-\d\d(T\d\d:\d\d|$)/

function cut(table: Table, kept: (at: number) => boolean): Table {
  const mine = <T>(cells: T[]) => cells.filter((_, at) => kept(at))
  const totals = table.totals.map(([said = null, ...sums]) => mine([null, ...sums]).with(0, said))
  return { columns: mine(table.columns), rows: table.rows.map(mine), totals }
}

/** Without the columns that say what things cost. */
export function withoutCosts(table: Table): Table {
  return cut(table, (at) => !COSTS.has(table.columns[at] ?? ''))
}

/** What a column of a file is called, as words. */
export function inWords(column: string): string {
  const words = column.replace(/_gb$/, ', GB').replaceAll('_', ' ')
  return words.charAt(0).toUpperCase() + words.slice(1)
}

/** A file's table as people read it: without codes that stand beside a name, and without columns that say nothing new. */
export function forReaders(table: Table): Table {
  const text = table.columns.map((_, at) => JSON.stringify(table.rows.map((row) => row[at] ?? '')))
  const kept = (at: number) =>
    !table.columns.includes(`${table.columns[at] ?? ''}_name`) &&
    table.rows.some((row) => row[at] !== null && row[at] !== '') &&
    !text.slice(0, at).includes(text[at] ?? '')
  const found = cut(table, kept)
  return { ...found, columns: found.columns.map((column) => inWords(column.replace(/_name$/, ''))) }
}

const placesOf = (cell: Cell) =>
  cell === null || typeof cell === 'string' ? 0 : (cell.figure.split('.')[1]?.length ?? 0)

function shown(cell: Cell, places: number): string {
  if (cell === null) return ''
  if (typeof cell !== 'string') return decimal(cell.figure, places)
  if (DAY.test(cell)) return cell.includes('T') ? instantName(cell) : dayName(cell)
  return cell.replaceAll(';', '; ')
}

/** Print a table as a sheet of its own, without the screen it is on. */
export function printSheet(title: string, facts: string[], { columns, rows, totals }: Table): void {
  const places = columns.map((_, at) => {
    const cells = rows.map((row) => row[at] ?? null).filter((cell) => cell !== null && cell !== '')
    if (cells.length === 0 || cells.some((cell) => typeof cell === 'string')) return undefined
    return Math.max(...[...cells, ...totals.map((row) => row[at] ?? null)].map(placesOf))
  })
  const make = <Tag extends keyof HTMLElementTagNameMap>(tag: Tag, within: Element, text = '') => {
    const made = document.createElement(tag)
    made.textContent = text
    within.append(made)
    return made
  }
  const line = (tag: 'th' | 'td', within: Element, cells: Cell[]) => {
    const row = make('tr', within)
    columns.forEach((_, at) => {
      const cell = cells[at] ?? null
      const made = make(tag, row, shown(cell, places[at] ?? placesOf(cell)))
      if (places[at] !== undefined) made.className = 'fig'
      else if (typeof cell === 'string' && DAY.test(cell)) made.className = 'day'
    })
  }
  const sheet = document.createElement('section')
  sheet.className = columns.length >= WIDE ? 'printsheet wide' : 'printsheet'
  make('h1', sheet, title)
  make('p', sheet, facts.filter(Boolean).join(' · '))
  const table = make('table', sheet)
  line('th', make('thead', table), columns)
  const body = make('tbody', table)
  for (const row of rows) line('td', body, row)
  const foot = make('tbody', table)
  foot.className = 'totals'
  for (const row of totals) line('th', foot, row)
  document.body.append(sheet)
  document.body.classList.add('prints-sheet')
  const done = () => {
    document.body.classList.remove('prints-sheet')
    sheet.remove()
  }
  window.addEventListener('afterprint', done, { once: true })
  window.print()
}
