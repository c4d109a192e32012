import { createContext, useContext } from 'react'
import type { DraftBody, Effect } from '../../api/queries'
import type { Change, Changes } from '../../domain/draft'

export interface CellName {
  account: string
  product: string
}

/** The draft one has open, as it is being edited. The server holds it; what is typed is there a moment later. */
export interface OpenDraft {
  /** What the server last said of it; null while there is none. */
  facts: DraftBody | null
  changes: Changes
  count: number
  effect: Effect | undefined
  /** Something typed is not answered yet. */
  busy: boolean
  error: unknown
  /** What it holds this moment, also before that is drawn. */
  now: () => Changes
  set: (changes: Change[]) => void
  forget: (slots: string[]) => void
  /** The day it is meant for, where a choice said one; empty otherwise. */
  meantFor: string
  propose: (day: string) => void
  undo: () => void
  redo: () => void
  /** Let the effect carry this cell's ladder. */
  lookAt: (cell: CellName | null) => void
  /** Let the effect carry the figures of these accounts, besides those of what is changed. */
  show: (accounts: string[]) => void
  /** Do something with the whole draft once everything typed is kept; it is gone from here afterwards if `ends`. */
  settle: (act: (id: number, revision: number) => Promise<unknown>, ends: boolean) => Promise<void>
  /** Edit another draft: one's own that was made ready, or a colleague's that was shared. */
  open: (id: number | null) => void
}

export const DraftContext = createContext<OpenDraft | null>(null)

export function useDraft(): OpenDraft {
  const found = useContext(DraftContext)
  if (!found) throw new Error('no draft here')
  return found
}
