import { keepPreviousData, queryOptions, useQueries, useQuery, useQueryClient } from '@tanstack/react-query'
import { useCallback, useEffect, useMemo, useRef, useState } from 'react'
import { api, take, type Schemas } from '../../api/client'
import type { Branches } from './branches'
import type { CellEffect } from './model'

export type RowPool = Schemas['RowPool']
type Rows = Schemas['AllocationRows']

const PAGE = 40
/** So many rows before they come into sight they are asked for. */
const AHEAD = 12
/** How many accounts are asked for at once where only their names are wanted. */
const NAMES = 5000

/** Which accounts and pools the grid lists. */
export interface Asked {
  products: string[]
  branches: Branches
  show: Schemas['RowsAsked']['show']
  find: string
  on: string | null
  against: string | null
}

/** An account as it is listed; ``pools`` has the figures of its page, at ``place``. */
export interface ListedAccount {
  code: string
  name: string
  kind: string
  status: string
  depth: number
  below: number
  open: boolean
  above: number
  pools: RowPool[]
  place: number
}

/** What is listed, as far as it is here: rows that are not yet in sight are asked for when they come into it. */
export interface Listing {
  /** Another for every other list, or arrival in it. */
  key: string
  asked: Asked
  top: string
  day: string
  /** Another whenever accounts came, went or moved. */
  madeOf: string
  count: number
  /** The account it was asked for around, and where that is listed. */
  around: string
  place: number | null
  opened: string[]
  attention: number
  closed: number
  pools: RowPool[]
  at: (row: number) => ListedAccount | undefined
  rowOf: (code: string) => number | undefined
}

export interface NamedAccount {
  code: string
  name: string
}

function body(asked: Asked) {
  return {
    product: asked.products,
    names_alone: false,
    branches: [...asked.branches.except],
    all_open: asked.branches.all,
    show: asked.show,
    find: asked.find,
    on: asked.on,
    compares: asked.on !== null,
    against: asked.against,
    first: 0,
    limit: PAGE,
  }
}

const keyOf = (asked: Asked) => JSON.stringify(body(asked))

const rowsFrom = (asked: Asked, page: number) =>
  queryOptions({
    queryKey: ['allocations', 'rows', keyOf(asked), page],
    queryFn: () => take(api.POST('/api/allocations/rows', { body: { ...body(asked), first: page * PAGE } })),
    staleTime: 15_000,
  })

const arriving = (asked: Asked, step: string, around: () => string) =>
  queryOptions({
    queryKey: ['allocations', 'rows', keyOf(asked), 'arriving', step],
    queryFn: async () => {
      const account = around()
      const found = await take(api.POST('/api/allocations/rows', { body: { ...body(asked), around: account || null } }))
      return { found, asked, around: account, key: `${keyOf(asked)} ${step}` }
    },
    staleTime: 15_000,
    placeholderData: keepPreviousData,
  })

/**
 * The accounts that are listed, by pages as they come into sight; ``onShown`` says which rows are. The first page that is
 * asked for is the one `around` an account, by every other step one comes in.
 */
export function useListing(asked: Asked, step: string, around: () => string) {
  const arrived = useQuery(arriving(asked, step, around))
  const [sight, setSight] = useState('0')
  const told = useRef('0')
  const onShown = useCallback((first: number, last: number, cursor: number) => {
    const found = new Set([Math.floor(cursor / PAGE)])
    const ahead = (row: number) => Math.max(0, Math.floor(row / PAGE))
    for (let page = ahead(first - AHEAD); page <= ahead(last + AHEAD); page++) found.add(page)
    const pages = [...found].join(' ')
    // Told with every row that comes: nothing is drawn anew unless other pages are wanted.
    if (pages !== told.current) setSight((told.current = pages))
  }, [])
  const { data } = arrived
  const wanted = useMemo(() => {
    const most = data ? Math.ceil(data.found.count / PAGE) - 1 : -1
    const there = data ? data.found.first / PAGE : 0
    return sight
      .split(' ')
      .map(Number)
      .filter((page) => page <= most && page !== there)
  }, [sight, data])
  const pages = useQueries({
    queries: data ? wanted.map((page) => rowsFrom(data.asked, page)) : [],
    combine: dataOf,
  })
  const listing = useMemo(
    () => (data ? listed(data, [data.found, ...ofList(pages, data.found)]) : undefined),
    [data, pages],
  )
  // Accounts that came, went or moved meanwhile shift the rows: all of it is asked for again.
  const isOther = data !== undefined && pages.some((page) => page.made_of !== data.found.made_of)
  const queries = useQueryClient()
  useEffect(() => {
    if (isOther) void queries.invalidateQueries({ queryKey: ['allocations', 'rows'] })
  }, [isOther, queries])
  const { refetch } = arrived
  const again = useCallback(() => void refetch(), [refetch])
  return { listing, error: arrived.error, again, onShown }
}

/** The pages of the same list as another one: rows of two lists do not stand beside one another. */
function ofList(pages: Rows[], first: Rows): Rows[] {
  return pages.filter((page) => page.made_of === first.made_of)
}

function dataOf(results: { data: Rows | undefined }[]): Rows[] {
  return results.flatMap((each) => (each.data ? [each.data] : []))
}

function listed({ key, asked, around }: Pick<Listing, 'key' | 'asked' | 'around'>, pages: [Rows, ...Rows[]]): Listing {
  const [first] = pages
  const pageAt = new Map(pages.map((page) => [page.first / PAGE, page]))
  const rowOf = new Map(pages.flatMap((page) => page.accounts.code.map((code, at) => [code, page.first + at] as const)))
  return {
    key,
    asked,
    top: first.top,
    day: first.day,
    madeOf: first.made_of,
    count: first.count,
    around,
    place: first.place,
    opened: first.opened,
    attention: first.attention,
    closed: first.closed,
    pools: first.pools,
    rowOf: (code) => rowOf.get(code),
    at: (row) => {
      const page = pageAt.get(Math.floor(row / PAGE))
      const place = row % PAGE
      const code = page?.accounts.code[place]
      if (!page || code === undefined) return undefined
      return {
        code,
        name: page.accounts.name[place] ?? '',
        kind: page.accounts.kind[place] ?? '',
        status: page.accounts.status[place] ?? 'active',
        depth: page.accounts.depth[place] ?? 0,
        below: page.accounts.below[place] ?? 0,
        open: page.accounts.open[place] ?? false,
        above: page.accounts.above[place] ?? -1,
        pools: page.pools,
        place,
      }
    },
  }
}

/** Who stands in some rows, whether they are here or not; refused where the list is not the one that is seen any more. */
export async function accountsIn({ asked, madeOf }: Listing, from: number, to: number): Promise<NamedAccount[]> {
  const found = await take(
    api.POST('/api/allocations/rows', {
      body: { ...body(asked), names_alone: true, compares: false, first: from, limit: Math.min(NAMES, to - from + 1) },
    }),
  )
  if (found.made_of !== madeOf)
    throw new Error('Other accounts are listed by now; look again and choose anew. Nothing was changed.')
  return found.accounts.code.map((code, at) => ({ code, name: found.accounts.name[at] ?? '' }))
}

/** The accounts directly below one that a pool reaches. */
export async function accountsBelow(account: string, product: string): Promise<NamedAccount[]> {
  const found: NamedAccount[] = []
  for (let first = 0; ; first += FIGURES) {
    const { accounts, pools, count } = await take(
      api.POST('/api/allocations/rows', {
        body: { ...EVERYTHING, product: [product], below: account, first, limit: FIGURES },
      }),
    )
    accounts.code.forEach((code, at) => {
      if (pools[0]?.present[at] === 1) found.push({ code, name: accounts.name[at] ?? '' })
    })
    if (first + FIGURES >= count) return found
  }
}

const FIGURES = 500
const EVERYTHING = {
  names_alone: false,
  branches: [],
  all_open: false,
  show: 'all' as const,
  find: '',
  compares: false,
}

const comparisons = new WeakMap<RowPool[], Record<string, Record<string, CellEffect>>>()

/** The cells of a page that are others on the day it is compared with, with their figures. */
export function differingIn(account: ListedAccount): Record<string, CellEffect> | undefined {
  let found = comparisons.get(account.pools)
  if (!found) comparisons.set(account.pools, (found = {}))
  return (found[account.place] ??= Object.fromEntries(
    account.pools
      .filter((pool) => pool.differs?.[account.place] === 1)
      .map((pool) => [
        pool.product,
        {
          reserve: pool.reserve[account.place] ?? 0,
          cap: pool.cap[account.place] ?? null,
          load: pool.load[account.place] ?? 0,
          held_by: pool.held_by[account.place] ?? 0,
          headroom: pool.headroom[account.place] ?? null,
          bound_by: pool.bound_by[account.place] ?? null,
          state: pool.state[account.place] ?? 'within',
        },
      ]),
  ))
}
