import { nothing, type AllocationChange, type AtCap, type Terms } from '../../domain/draft'
import type { Cell, Effect, Pool } from '../../api/queries'

/** What a cell shows: as it is, or as the draft would have it. */
export interface Figures {
  reserve: number
  cap: number | null
  used: number
  load: number
  held: number
  /** null where nothing in sight limits. */
  headroom: number | null
  /** The account whose cap limits, `supply`, or null where nothing in sight does or the draft changes it. */
  boundBy: string | null
  state: string
  drafted: boolean
}

export interface CellEffect {
  reserve: number
  cap: number | null
  load: number
  held_by: number
  headroom: number | null
  bound_by: string | null
  state: string
}

export function figuresOf(pool: Pool, place: number, effect: CellEffect | undefined): Figures {
  return {
    reserve: effect?.reserve ?? pool.reserve[place] ?? 0,
    cap: effect ? effect.cap : (pool.cap[place] ?? null),
    used: pool.used_by[place] ?? 0,
    load: effect?.load ?? pool.load[place] ?? 0,
    held: effect?.held_by ?? pool.held_by[place] ?? 0,
    headroom: effect ? effect.headroom : (pool.headroom[place] ?? null),
    boundBy: effect ? effect.bound_by : (pool.bound_by[place] ?? null),
    state: effect?.state ?? pool.state[place] ?? 'within',
    drafted: effect !== undefined,
  }
}

export type PoolChoice = 'all' | 'counted' | 'storage' | string[]

export function readChoice(text: string | null): PoolChoice {
  if (text === null || text === 'counted' || text === 'all' || text === 'storage') return text ?? 'counted'
  return text.split(',').filter(Boolean)
}

export function chosenPools<Any extends { product: string; measure: string }>(pools: Any[], choice: PoolChoice): Any[] {
  if (choice === 'all') return pools
  if (choice === 'counted') return pools.filter((pool) => pool.measure !== 'storage')
  if (choice === 'storage') return pools.filter((pool) => pool.measure === 'storage')
  return pools.filter((pool) => choice.includes(pool.product))
}

export function termsOf(version: Cell['version']): Terms {
  if (!version) return nothing
  return {
    reserve: version.reserve,
    cap: version.cap,
    at_cap: version.at_cap as AtCap,
    burst: version.burst,
    grace_days: version.grace_days,
    per: version.per,
    each: version.each,
  }
}

/** A change on top of what a cell was when it was looked at. */
export function changeOf(
  cell: { account: string; product: string; version: Cell['version'] },
  terms: Terms,
): AllocationChange {
  return {
    kind: 'allocation',
    account: cell.account,
    product: cell.product,
    terms,
    seen: cell.version?.id ?? null,
    was: cell.version ? termsOf(cell.version) : null,
  }
}

/** What is free of one's own pools as the draft would have it. */
export function withDraft<Any extends Pool>(pools: Any[], top: string | undefined, effect: Effect | undefined): Any[] {
  const drafted = new Map(effect?.pools.filter((each) => each.owner === top).map((each) => [each.product, each]))
  return pools.map((pool) => {
    const found = pool.owned ? drafted.get(pool.product) : undefined
    return found ? { ...pool, free: found.free_after } : pool
  })
}

/** An effect's figures by account and product. */
export function effectsOf(effect: Effect | undefined): Record<string, Record<string, CellEffect>> {
  const found: Record<string, Record<string, CellEffect>> = {}
  for (const cells of effect?.cells ?? [])
    for (const [at, account] of cells.account.entries())
      (found[account] ??= {})[cells.product] = {
        reserve: cells.reserve[at] ?? 0,
        cap: cells.cap[at] ?? null,
        load: cells.load[at] ?? 0,
        held_by: cells.held_by[at] ?? 0,
        headroom: cells.headroom[at] ?? null,
        bound_by: cells.bound_by[at] ?? null,
        state: cells.state[at] ?? 'within',
      }
  return found
}
