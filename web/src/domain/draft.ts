/** A draft in the making: what allocations shall be, as a plain reducer with undo and redo. */

export type AtCap = 'block' | 'grace' | 'overage'

export interface Terms {
  reserve: number
  cap: number | null
  at_cap: AtCap
  burst: number | null
  grace_days: number | null
}

export interface Change extends Terms {
  account: string
  product: string
  /** The version the change was made on, null where there was none. */
  seen: number | null
  /** What it was. */
  was: Terms
}

export interface Draft {
  changes: Record<string, Change>
  before: Record<string, Change>[]
  after: Record<string, Change>[]
}

export type Action =
  | { do: 'set'; change: Change }
  | { do: 'forget'; account: string; product: string }
  | { do: 'discard' }
  | { do: 'undo' }
  | { do: 'redo' }

export const emptyDraft: Draft = { changes: {}, before: [], after: [] }
export const nothing: Terms = { reserve: 0, cap: null, at_cap: 'block', burst: null, grace_days: null }

export function cellKey(account: string, product: string): string {
  return `${account}\n${product}`
}

export function sameTerms(one: Terms, other: Terms): boolean {
  return (
    one.reserve === other.reserve && one.cap === other.cap && one.at_cap === other.at_cap &&
    one.burst === other.burst && one.grace_days === other.grace_days
  )
}

/** The draft after an action; a change back to what was leaves the draft. */
export function reduce(draft: Draft, action: Action): Draft {
  switch (action.do) {
    case 'set': {
      const { change } = action
      const changes = { ...draft.changes }
      const key = cellKey(change.account, change.product)
      if (sameTerms(change, change.was)) delete changes[key]
      else changes[key] = change
      return step(draft, changes)
    }
    case 'forget': {
      const changes = { ...draft.changes }
      delete changes[cellKey(action.account, action.product)]
      return step(draft, changes)
    }
    case 'discard':
      return step(draft, {})
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

function step(draft: Draft, changes: Record<string, Change>): Draft {
  if (JSON.stringify(changes) === JSON.stringify(draft.changes)) return draft
  return { changes, before: [...draft.before, draft.changes].slice(-100), after: [] }
}

/** What is wrong with terms before anything is asked of the server; null where nothing is. */
export function fault(terms: Terms): string | null {
  if (terms.cap !== null && terms.reserve > terms.cap) return 'The reserve is over the cap.'
  if (terms.at_cap === 'grace' && terms.grace_days === null) return 'Grace needs a number of days.'
  return null
}
