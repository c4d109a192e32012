import type { Difference } from '../../domain/draft'

const KEPT = 'fair-ladle-unsent'

interface Unsent extends Difference {
  who: string
  draft: number | null
}

/** Keep in this tab what was typed into a draft (null = a new one) and not answered before its page is left. */
export function keepUnsent(who: string, draft: number | null, { put, forget }: Difference): void {
  if (put.length + forget.length === 0) return
  const before = read(who)
  const unsent = { who, draft, put: [...(before?.put ?? []), ...put], forget: [...(before?.forget ?? []), ...forget] }
  try {
    sessionStorage.setItem(KEPT, JSON.stringify(unsent))
  } catch {
    // More than a tab keeps: as if there were none to keep it.
  }
}

/** What of this draft (null = none is there yet) was not answered when the page was left; nothing twice. */
export function takeUnsent(who: string, draft: number | null): Difference | null {
  const found = read(who)
  sessionStorage.removeItem(KEPT)
  return found && (found.draft === null || found.draft === draft) ? found : null
}

function read(who: string): Unsent | null {
  const found = JSON.parse(sessionStorage.getItem(KEPT) ?? 'null') as Unsent | null
  return found?.who === who ? found : null
}
