import { api, take, type Schemas } from '../../api/client'
import type { Pool } from '../../api/queries'
import { allocationSlot, nothing, type Change, type Changes, type Terms } from '../../domain/draft'
import { parseBlock, typedTerms, type Field } from '../../domain/cellInput'
import { units, unitName, whole } from '../../domain/units'
import { span, type Range } from '../../grid/range'
import { accountsIn, type Listing, type NamedAccount } from './listing'
import { changeOf, figuresOf, termsOf, type CellEffect } from './model'

type CellTerms = Schemas['CellTerms']

export interface Sheet {
  listing: Listing
  pools: Pool[]
  /** Who stands in rows that are not on screen. */
  others?: Map<number, NamedAccount>
  changes: Changes
  effects: Record<string, Record<string, CellEffect>>
}

interface At {
  row: number
  column: number
}

/** Something typed or pasted that cannot be: said as it is, and nothing of it is taken over. */
export class CannotBe extends Error {}

/** A cell by its row and column; ``place`` is where its pool has its figures, null where they are not here. */
function cellAt(sheet: Sheet, at: At): { account: string; name: string; pool: Pool; place: number | null } {
  const listed = sheet.listing.at(at.row)
  const named = listed ?? sheet.others?.get(at.row)
  const pool = (listed?.pools ?? sheet.pools)[at.column]
  if (named === undefined || pool === undefined) throw new CannotBe('That is outside the grid.')
  return { account: named.code, name: named.name, pool, place: listed?.place ?? null }
}

const MOST_CELLS = 5000

/** The sheet with who stands in a range, also where it is not on screen; a range of too many cells is refused. */
async function within(sheet: Sheet, range: Range): Promise<Sheet> {
  const cells = (range.to.row - range.from.row + 1) * (range.to.column - range.from.column + 1)
  if (cells > MOST_CELLS)
    throw new CannotBe(`These are ${whole(cells)} cells; up to ${whole(MOST_CELLS)} can be changed at once.`)
  for (let row = range.from.row; row <= range.to.row; row++)
    if (!sheet.listing.at(row)) {
      const found = await accountsIn(sheet.listing, range.from.row, range.to.row)
      return { ...sheet, others: new Map(found.map((each, at) => [range.from.row + at, each])) }
    }
  return sheet
}

/** The terms in force of many cells, the draft's where it has some. */
async function termsIn(sheet: Sheet, cells: At[]): Promise<{ there: CellTerms; terms: Terms }[]> {
  const named = cells.map((at) => cellAt(sheet, at))
  const found = await take(
    api.POST('/api/allocations/terms', {
      body: { cells: named.map((each) => ({ account: each.account, product: each.pool.product })) },
    }),
  )
  return found.map((there) => {
    const change = sheet.changes[allocationSlot(there.account, there.product)]
    return { there, terms: (change?.kind === 'allocation' ? change.terms : null) ?? termsOf(there.version) }
  })
}

function refuseFixed(found: CellTerms[]): void {
  const fixed = found.find((each) => each.fixed)
  if (fixed?.fixed) throw new CannotBe(fixed.fixed)
}

/** Whether a text can stand in a cell, by what the cell shows now; where it is not here yet, that is seen later. */
export function canStand(sheet: Sheet, at: At, field: Field, text: string): boolean {
  if (!sheet.listing.at(at.row)) return true
  const { account, pool, place } = cellAt(sheet, at)
  if (place === null) return true
  const figures = figuresOf(pool, place, sheet.effects[account]?.[pool.product])
  return (
    typedTerms(text, field, { ...nothing, reserve: figures.reserve, cap: figures.cap }, pool.per_unit) !== undefined
  )
}

function wrong(text: string, name: string, pool: Pool): CannotBe {
  const finest = pool.per_unit === 1 ? 'a whole number' : 'a number with up to 3 decimals'
  return new CannotBe(
    `“${text.slice(0, 40)}” for ${name}, ${pool.name}: ${finest} of ${unitName(pool.unit, 2)}, none, +5, -10% or reserve/cap.`,
  )
}

/** The same text typed into every cell of a range. */
export async function typeInto(shown: Sheet, range: Range, field: Field, text: string): Promise<Change[]> {
  const sheet = await within(shown, range)
  const cells = reached(sheet, range)
  const found = await termsIn(sheet, cells)
  if (cells.length === 1) refuseFixed(found.map((each) => each.there))
  return found.flatMap(({ there, terms }, n) => {
    if (there.fixed) return []
    const { name, pool } = cellAt(sheet, cells[n] ?? range.from)
    const next = typedTerms(text, field, terms, pool.per_unit)
    if (next === undefined) throw wrong(text, name, pool)
    return [changeOf({ account: there.account, product: there.product, version: there.version }, next)]
  })
}

/** The first row of a range into those below, or its first column into those to the right: all terms. */
export async function fill(shown: Sheet, range: Range, way: 'down' | 'right'): Promise<Change[]> {
  const sheet = await within(shown, range)
  const cells = span(range)
  const found = await termsIn(sheet, cells)
  const byCell = new Map(cells.map((at, n) => [`${at.row} ${at.column}`, found[n]]))
  return cells.flatMap((at) => {
    const source =
      way === 'down' ? { row: range.from.row, column: at.column } : { row: at.row, column: range.from.column }
    const [from, to] = [byCell.get(`${source.row} ${source.column}`), byCell.get(`${at.row} ${at.column}`)]
    if (!from || !to || from === to || to.there.fixed || from.there.fixed) return []
    if (way === 'right' && cellAt(sheet, at).pool.per_unit !== cellAt(sheet, source).pool.per_unit)
      throw new CannotBe('Seats cannot be filled into storage, nor the other way round.')
    const terms = to.there.owner ? { ...from.terms, reserve: 0 } : from.terms
    return [changeOf({ account: to.there.account, product: to.there.product, version: to.there.version }, terms)]
  })
}

/** A block copied from a spreadsheet, from a cell on: all of it, or nothing with the reason. One value fills a whole range. */
export async function paste(shown: Sheet, range: Range, text: string): Promise<Change[]> {
  let block = parseBlock(text)
  const [first] = block
  if (block.length === 1 && first?.length === 1)
    block = Array.from({ length: range.to.row - range.from.row + 1 }, () =>
      Array.from({ length: range.to.column - range.from.column + 1 }, () => first[0] ?? ''),
    )
  const width = Math.max(...block.map((row) => row.length))
  const { row, column } = range.from
  const { count } = shown.listing
  if (column + width > shown.pools.length || row + block.length > count) {
    throw new CannotBe(
      `The block is ${block.length} × ${width} (rows × columns); from here there is room for ${count - row} × ${shown.pools.length - column}. Nothing was pasted.`,
    )
  }
  const sheet = await within(shown, {
    from: range.from,
    to: { row: row + block.length - 1, column: column + width - 1 },
  })
  const cells: At[] = []
  const texts: string[] = []
  block.forEach((line, down) =>
    line.forEach((each, right) => {
      if (each.trim() === '') return
      cells.push({ row: row + down, column: column + right })
      texts.push(each)
    }),
  )
  if (cells.length === 0) throw new CannotBe('There is nothing to paste.')
  const found = await termsIn(sheet, cells)
  refuseFixed(found.map((each) => each.there))
  return found.map(({ there, terms }, n) => {
    const { name, pool } = cellAt(sheet, cells[n] ?? range.from)
    const next = typedTerms(texts[n] ?? '', 'cap', terms, pool.per_unit)
    if (next === undefined) throw wrong(texts[n] ?? '', name, pool)
    return changeOf({ account: there.account, product: there.product, version: there.version }, next)
  })
}

/** What a range shows, for a spreadsheet: reserve/cap, or the cap alone; null where some of it is not here. */
export function copied(sheet: Sheet, range: Range): string | null {
  const lines: string[] = []
  for (let row = range.from.row; row <= range.to.row; row++) {
    const line: string[] = []
    for (let column = range.from.column; column <= range.to.column; column++) {
      if (!sheet.listing.at(row)) return null
      const { account, pool, place } = cellAt(sheet, { row, column })
      const figures = figuresOf(pool, place ?? 0, sheet.effects[account]?.[pool.product])
      line.push(pool.present[place ?? 0] === 1 ? asTyped(figures.reserve, figures.cap, pool.per_unit) : '')
    }
    lines.push(line.join('\t'))
  }
  return lines.join('\n')
}

/** The same for a range that is not all here, from the terms in force. */
export async function copiedWhole(shown: Sheet, range: Range): Promise<string> {
  const sheet = await within(shown, range)
  const cells = span(range)
  const found = await termsIn(sheet, cells)
  const columns = range.to.column - range.from.column + 1
  const texts = found.map(({ there, terms }, n) =>
    !there.reached ? '' : asTyped(terms.reserve, terms.cap, cellAt(sheet, cells[n] ?? range.from).pool.per_unit),
  )
  return Array.from({ length: cells.length / columns }, (_, n) =>
    texts.slice(n * columns, (n + 1) * columns).join('\t'),
  ).join('\n')
}

function asTyped(reserve: number, cap: number | null, perUnit: number): string {
  const of = (grains: number) => units(grains, perUnit).replaceAll('\u00a0', '')
  return `${reserve ? `${of(reserve)}/` : ''}${cap === null ? 'none' : of(cap)}`
}

/** The slots of a range's changes in the draft. */
export async function slotsIn(shown: Sheet, range: Range): Promise<string[]> {
  const sheet = await within(shown, range)
  return span(range).map((at) => {
    const { account, pool } = cellAt(sheet, at)
    return allocationSlot(account, pool.product)
  })
}

/** The cells of a range that a pool reaches, or of which it is not known here. */
function reached(sheet: Sheet, range: Range): At[] {
  const cells = span(range)
  if (cells.length === 1) return cells
  const found = cells.filter((at) => {
    const { pool, place } = cellAt(sheet, at)
    return place === null || pool.present[place] === 1
  })
  if (found.length === 0) throw new CannotBe('No pool reaches these accounts.')
  return found
}
