import { beforeEach, describe, expect, it, vi } from 'vitest'
import type { Schemas } from '../../api/client'
import type { Pool } from '../../api/queries'
import { allocationSlot, type AllocationChange, type Change, type Terms } from '../../domain/draft'
import { canStand, CannotBe, copied, copiedWhole, fill, paste, slotsIn, typeInto, type Sheet } from './cellEditing'
import type { ListedAccount, Listing } from './listing'

type CellTerms = Schemas['CellTerms']

const ACCOUNTS = ['TERN', 'WREN', 'LARK', 'SHOP']
const POOLS = [
  { product: 'MAIL', name: 'Mail', unit: 'seat', per_unit: 1 },
  { product: 'SHELF', name: 'Shelf', unit: 'GB', per_unit: 1000 },
]
/** What the server says of cells: reserve and cap, by account and product. */
let there: Record<string, [reserve: number, cap: number | null]>
let fixed: Record<string, string>
let owners: Set<string>

const pool = (at: number): Pool =>
  ({ ...POOLS[at], owned: true, present: ACCOUNTS.map((code) => (code === 'LARK' && at === 1 ? 0 : 1)) }) as Pool

vi.mock('../../api/client', () => ({
  take: (answer: unknown) => answer,
  api: {
    POST: (path: string, { body }: { body: { cells: { account: string; product: string }[] } }) => {
      expect(path).toBe('/api/allocations/terms')
      return Promise.resolve(
        body.cells.map(({ account, product }): CellTerms => {
          const [reserve, cap] = there[`${account} ${product}`] ?? [0, null]
          const version = { id: 7, reserve, cap, at_cap: 'block', burst: null, grace_days: null, per: null, each: null }
          return {
            account,
            product,
            fixed: fixed[`${account} ${product}`] ?? null,
            owner: owners.has(`${account} ${product}`),
            reached: !(account === 'LARK' && product === 'SHELF'),
            version,
          } as unknown as CellTerms
        }),
      )
    },
  },
}))
vi.mock('./listing', () => ({
  accountsIn: (_: Listing, first: number, last: number) =>
    Promise.resolve(ACCOUNTS.slice(first, last + 1).map((code) => ({ code, name: `${code} Ltd` }))),
}))

/** The four accounts against the two pools; `shown` of them are on screen. */
function sheet(shown = 4, changes: Sheet['changes'] = {}): Sheet {
  const pools = [pool(0), pool(1)].map((each, column) => {
    const of = (row: number) => there[`${ACCOUNTS[row]} ${each.product}`] ?? ([0, null] as const)
    const rows = ACCOUNTS.map((_, row) => row)
    return {
      ...each,
      column,
      reserve: rows.map((row) => of(row)[0]),
      cap: rows.map((row) => of(row)[1]),
      used_by: rows.map(() => 0),
      load: rows.map(() => 0),
      held_by: rows.map(() => 0),
      headroom: rows.map(() => null),
      bound_by: rows.map(() => null),
      state: rows.map(() => 'within'),
    }
  }) as unknown as Pool[]
  const at = (row: number) =>
    row < shown && ACCOUNTS[row]
      ? ({ code: ACCOUNTS[row], name: `${ACCOUNTS[row]} Ltd`, place: row, pools } as unknown as ListedAccount)
      : undefined
  return { listing: { count: ACCOUNTS.length, at } as unknown as Listing, pools, changes, effects: {} }
}

const range = (fromRow: number, fromColumn: number, toRow = fromRow, toColumn = fromColumn) => ({
  from: { row: fromRow, column: fromColumn },
  to: { row: toRow, column: toColumn },
})
const said = (changes: Change[]) =>
  (changes as AllocationChange[]).map((each) => [each.account, each.product, each.terms?.reserve, each.terms?.cap])

beforeEach(() => {
  there = { 'TERN MAIL': [5, 20], 'WREN MAIL': [0, 10], 'TERN SHELF': [0, 2_500], 'WREN SHELF': [0, null] }
  fixed = {}
  owners = new Set()
})

describe('typing into cells', () => {
  it('changes each by what it has: a relative text adds to each cap', async () => {
    expect(said(await typeInto(sheet(), range(0, 0, 1, 0), 'cap', '+5'))).toEqual([
      ['TERN', 'MAIL', 5, 25],
      ['WREN', 'MAIL', 0, 15],
    ])
  })
  it('starts from what is drafted already', async () => {
    const terms: Terms = { reserve: 8, cap: 40, at_cap: 'grace', burst: 2, grace_days: 14, per: null, each: null }
    const drafted: AllocationChange = {
      kind: 'allocation',
      account: 'TERN',
      product: 'MAIL',
      terms,
      seen: 7,
      was: null,
    }
    const [change] = (await typeInto(
      sheet(4, { [allocationSlot('TERN', 'MAIL')]: drafted }),
      range(0, 0),
      'cap',
      '-10%',
    )) as AllocationChange[]
    expect(change?.terms).toEqual({ ...terms, cap: 36 })
  })
  it('reaches rows that are not on screen', async () => {
    expect(said(await typeInto(sheet(1), range(0, 0, 3, 0), 'cap', '7')).map(([account]) => account)).toEqual(ACCOUNTS)
  })
  it('leaves out what no pool reaches and what is set from above, and says so where nothing is left', async () => {
    fixed['WREN SHELF'] = 'The cap is set by its seller.'
    const found = said(await typeInto(sheet(), range(0, 1, 3, 1), 'cap', '1.5'))
    expect(found).toEqual([
      ['TERN', 'SHELF', 0, 1_500],
      ['SHOP', 'SHELF', 0, 1_500],
    ])
    await expect(typeInto(sheet(), range(1, 1), 'cap', '1')).rejects.toThrow('set by its seller')
    await expect(typeInto(sheet(), range(2, 1, 2, 1), 'cap', 'x')).rejects.toThrow(CannotBe)
  })
  it('takes nothing over where one text is wrong, and says what would be right', async () => {
    await expect(typeInto(sheet(), range(0, 0, 1, 0), 'cap', '1.5')).rejects.toThrow(
      '“1.5” for TERN Ltd, Mail: a whole number of seats',
    )
    expect(canStand(sheet(), { row: 0, column: 0 }, 'cap', '1.5')).toBe(false)
    expect(canStand(sheet(), { row: 0, column: 1 }, 'cap', '1.5')).toBe(true)
    expect(canStand(sheet(0), { row: 0, column: 0 }, 'cap', '1.5'), 'not here yet: the server says').toBe(true)
  })
})

describe('filling', () => {
  it('takes the first row down and leaves that as it is; an owner keeps no reserve', async () => {
    owners.add('WREN MAIL')
    expect(said(await fill(sheet(), range(0, 0, 2, 0), 'down'))).toEqual([
      ['WREN', 'MAIL', 0, 20],
      ['LARK', 'MAIL', 5, 20],
    ])
  })
  it('takes the first column right only where the units are the same', async () => {
    await expect(fill(sheet(), range(0, 0, 0, 1), 'right')).rejects.toThrow('cannot be filled into storage')
  })
})

describe('pasting', () => {
  it('sets a block cell by cell, without those left empty', async () => {
    expect(said(await paste(sheet(), range(0, 0), '30\t2\n\tnone\n'))).toEqual([
      ['TERN', 'MAIL', 5, 30],
      ['TERN', 'SHELF', 0, 2_000],
      ['WREN', 'SHELF', 0, null],
    ])
  })
  it('fills a range with one value', async () => {
    expect(said(await paste(sheet(), range(0, 0, 1, 0), '3/9')).map((each) => each.slice(2))).toEqual([
      [3, 9],
      [3, 9],
    ])
  })
  it('is whole or nothing', async () => {
    await expect(paste(sheet(), range(3, 1), '1\t2')).rejects.toThrow(
      'The block is 1 × 2 (rows × columns); from here there is room for 1 × 1. Nothing was pasted.',
    )
    await expect(paste(sheet(), range(0, 0), '1\nten')).rejects.toThrow('“ten” for WREN Ltd')
    await expect(paste(sheet(), range(0, 0), ' ')).rejects.toThrow('nothing to paste')
  })
  it('refuses more than 5,000 cells before anything is asked', async () => {
    const wide = Array.from({ length: 5001 }, () => '1').join('\n')
    const long = { ...sheet(), listing: { ...sheet().listing, count: 9000 } }
    await expect(paste(long, range(0, 0), wide)).rejects.toThrow('These are 5\u00a0001 cells')
  })
})

describe('copying', () => {
  it('is what pasting sets again, here or from the server', async () => {
    const shown = copied(sheet(), range(0, 0, 2, 1))
    expect(shown).toBe('5/20\t2.5\n10\tnone\nnone\t')
    expect(copied(sheet(1), range(0, 0, 2, 1)), 'not all of it is here').toBeNull()
    expect(await copiedWhole(sheet(1), range(0, 0, 2, 1))).toBe(shown)
    expect(said(await paste(sheet(), range(0, 0), shown ?? '')).slice(0, 2)).toEqual([
      ['TERN', 'MAIL', 5, 20],
      ['TERN', 'SHELF', 0, 2_500],
    ])
  })
  it('names the slots of a range, to take them out of the draft', async () => {
    expect(await slotsIn(sheet(1), range(0, 0, 1, 0))).toEqual([
      allocationSlot('TERN', 'MAIL'),
      allocationSlot('WREN', 'MAIL'),
    ])
  })
})
