/** A draft in the making: what shall be otherwise, as a plain reducer with undo and redo. */

export type AtCap = 'block' | 'grace' | 'overage'

export interface Terms {
  reserve: number
  cap: number | null
  at_cap: AtCap
  burst: number | null
  grace_days: number | null
  /** The counted product whose seats the cap follows, and how much each brings; `cap` is what it is without any. */
  per: string | null
  each: number | null
}

/** The last day of an allocation's terms; null = for good. */
export interface Until {
  last_day: string | null
}

/**
 * An allocation shall be these terms (null = nothing any more); `seen` and `was` are what it was made on. Without
 * `until` its last day stays what it is.
 */
export interface AllocationChange {
  kind: 'allocation'
  account: string
  product: string
  terms: Terms | null
  seen: number | null
  was: Terms | null
  until?: Until | null
  was_until?: Until | null
}

export interface NewLot {
  kind: 'new lot'
  owner: string
  product: string
  reference: string
  quantity: number
  first_day: string
  last_day: string | null
  unit_cost: string
  currency: string
  true_up: number
  overcommit: number | null
  renews: string | null
}

export interface LotEnd {
  kind: 'lot end'
  owner: string
  product: string
  reference: string
  first_day: string
  last_day: string | null
  was: string | null
}

export interface NewAccount {
  kind: 'new account'
  code: string
  parent: string
  account_kind: 'reseller' | 'client' | 'sub-account'
  name: string
  admin_email: string | null
  billing_email: string | null
  /** What it may hold of pools it has no allocation of: what is free above, or nothing. */
  unallocated: 'free' | 'none'
}

export interface Move {
  kind: 'move'
  account: string
  parent: string
  was: string | null
}

export type Status = 'active' | 'suspended' | 'closed'

/** An account shall be suspended (charged or not), closed or active again. */
export interface StatusChange {
  kind: 'status'
  account: string
  status: Status
  charged: boolean
  was: Status | null
  was_charged: boolean
}

/** A rate written for one buyer that the draft creates. */
export interface RateChange extends RateTerms {
  kind: 'rate'
  seller: string
  buyer: string | null
  product: string
  first_day: string
  /** The terms of a rate of the same day. */
  was?: RateTerms | null
  /** That rate shall not be any more. */
  gone: boolean
}

export interface RateTerms {
  basis: 'used' | 'held' | 'reserved'
  aggregate: 'average' | 'peak' | 'p95'
  tier_mode: 'graduated' | 'volume'
  included: string
  overage_price: string | null
  minimum: string | null
  fixed_fee: string | null
  currency: string | null
  committed?: string | null
  fees: 'whole' | 'by_day'
  markup?: string | null
  tiers: { from_quantity: string; unit_price: string }[]
}

/** Units shall be given to, or taken from, these subjects. */
export interface UnitsChange {
  kind: 'units'
  account: string
  product: string
  subjects: string[]
  give: boolean
}

/** How much one person may store, and what happens beyond it. */
export interface LimitTerms {
  grains: number
  at_limit: 'tell' | 'stop' | 'grace'
  tell_at: number
  grace_days: number | null
}

/** What an account, or one of its groups, lets each person store; null = it sets nothing. */
export interface PersonLimit {
  kind: 'person limit'
  account: string
  group: string | null
  product: string
  terms: LimitTerms | null
  was: LimitTerms | null
}

export type FolderState = 'open' | 'archived' | 'deleted'

/** A shared folder shall be open, archived, or deleted after the waiting time. */
export interface FolderChange {
  kind: 'folder'
  account: string
  product: string
  folder: string
  state: FolderState
  was: FolderState
}

export type Change =
  | AllocationChange
  | NewLot
  | LotEnd
  | NewAccount
  | Move
  | StatusChange
  | RateChange
  | UnitsChange
  | PersonLimit
  | FolderChange

/** The account that a change is about. */
export function concerns(change: Change): string {
  switch (change.kind) {
    case 'new lot':
    case 'lot end':
      return change.owner
    case 'new account':
      return change.code
    case 'rate':
      return change.buyer ?? change.seller
    default:
      return change.account
  }
}

/** What names a change within a draft, as the server has it. */
export function keyOf(change: Change): string {
  switch (change.kind) {
    case 'allocation':
      return `${change.account}\n${change.product}`
    case 'new lot':
    case 'lot end':
      return [change.owner, change.product, change.reference, change.first_day].join('\n')
    case 'new account':
      return change.code
    case 'move':
    case 'status':
      return change.account
    case 'units':
      return [change.account, change.product, change.give ? 'give' : 'take'].join('\n')
    case 'person limit':
      return [change.account, change.group ?? '', change.product].join('\n')
    case 'folder':
      return [change.account, change.product, change.folder].join('\n')
    case 'rate':
      return [...(change.buyer === null ? ['', change.seller] : [change.buyer]), change.product, change.first_day].join(
        '\n',
      )
  }
}

/** The name under which a change is kept: its kind and its key. */
export function slotOf(change: Change): string {
  return `${change.kind}\n${keyOf(change)}`
}

export function allocationSlot(account: string, product: string): string {
  return `allocation\n${account}\n${product}`
}

export type Changes = Record<string, Change>

export interface Draft {
  changes: Changes
  before: Changes[]
  after: Changes[]
}

export type Action =
  | { do: 'set'; changes: Change[] }
  | { do: 'forget'; slots: string[] }
  | { do: 'load'; changes: Changes }
  | { do: 'undo' }
  | { do: 'redo' }

export const emptyDraft: Draft = { changes: {}, before: [], after: [] }
export const nothing: Terms = {
  reserve: 0,
  cap: null,
  at_cap: 'block',
  burst: null,
  grace_days: null,
  per: null,
  each: null,
}

export function sameTerms(one: Terms | null, other: Terms | null): boolean {
  if (one === null || other === null) return one === other
  return (
    one.reserve === other.reserve &&
    one.cap === other.cap &&
    one.at_cap === other.at_cap &&
    one.burst === other.burst &&
    one.grace_days === other.grace_days &&
    one.per === other.per &&
    one.each === other.each
  )
}

export function sameLimit(one: LimitTerms | null, other: LimitTerms | null): boolean {
  if (one === null || other === null) return one === other
  return (
    one.grains === other.grains &&
    one.at_limit === other.at_limit &&
    one.tell_at === other.tell_at &&
    one.grace_days === other.grace_days
  )
}

function changesNothing(change: Change): boolean {
  if (change.kind === 'allocation')
    return (
      sameTerms(change.terms, change.was) && (!change.until || change.until.last_day === change.was_until?.last_day)
    )
  if (change.kind === 'move') return change.parent === change.was
  if (change.kind === 'folder') return change.state === change.was
  if (change.kind === 'person limit') return sameLimit(change.terms, change.was)
  if (change.kind === 'status') return change.status === change.was && change.charged === change.was_charged
  return change.kind === 'lot end' && change.last_day === change.was
}

/** Other terms in a cell keep the last day that the draft already has for it. */
function keepsItsDay(change: Change, there: Change | undefined): Change {
  if (change.kind !== 'allocation' || there?.kind !== 'allocation' || change.until !== undefined) return change
  return there.until ? { ...change, until: there.until, was_until: there.was_until ?? null } : change
}

/** The draft after an action; a change back to what was leaves the draft. */
export function reduce(draft: Draft, action: Action): Draft {
  switch (action.do) {
    case 'set': {
      const changes = { ...draft.changes }
      for (const asked of action.changes) {
        const change = keepsItsDay(asked, changes[slotOf(asked)])
        if (changesNothing(change)) delete changes[slotOf(change)]
        else changes[slotOf(change)] = change
      }
      return step(draft, changes)
    }
    case 'forget': {
      const changes = { ...draft.changes }
      for (const slot of action.slots) delete changes[slot]
      return step(draft, changes)
    }
    case 'load':
      return { changes: action.changes, before: [], after: [] }
    case 'undo': {
      const last = draft.before.at(-1)
      return last ? { changes: last, before: draft.before.slice(0, -1), after: [draft.changes, ...draft.after] } : draft
    }
    case 'redo': {
      const [next, ...rest] = draft.after
      return next ? { changes: next, before: [...draft.before, draft.changes], after: rest } : draft
    }
  }
}

function step(draft: Draft, changes: Changes): Draft {
  if (isEmpty(difference(draft.changes, changes))) return draft
  return { changes, before: [...draft.before, draft.changes].slice(-100), after: [] }
}

export interface Difference {
  put: Change[]
  forget: string[]
}

/** What leads from one set of changes to another: which to put in, and the slots to forget. */
export function difference(from: Changes, to: Changes): Difference {
  return {
    put: Object.entries(to)
      .filter(([slot, change]) => from[slot] !== change && JSON.stringify(from[slot]) !== JSON.stringify(change))
      .map(([, change]) => change),
    forget: Object.keys(from).filter((slot) => !(slot in to)),
  }
}

export function isEmpty(found: Difference): boolean {
  return found.put.length === 0 && found.forget.length === 0
}

/** A difference laid over other changes: for when somebody else wrote to the same draft meanwhile. */
export function withDifference(changes: Changes, { put, forget }: Difference): Changes {
  const found = { ...changes }
  for (const slot of forget) delete found[slot]
  for (const change of put) found[slotOf(change)] = change
  return found
}

export function bySlot(changes: Change[]): Changes {
  return Object.fromEntries(changes.map((change) => [slotOf(change), change]))
}
