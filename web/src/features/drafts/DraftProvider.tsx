import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useCallback, useEffect, useMemo, useRef, useState } from 'react'
import { api, ApiError, take } from '../../api/client'
import { draftNow, draftLooked, me, useCan, type DraftBody } from '../../api/queries'
import {
  bySlot,
  difference,
  emptyDraft,
  isEmpty,
  reduce,
  withDifference,
  type Action,
  type Changes,
} from '../../domain/draft'
import { DraftContext, type CellName, type OpenDraft } from './context'
import { keepUnsent, takeUnsent } from './unsent'

const REST = 40
const CHOSEN = 'fair-ladle-open-draft'

interface Kept {
  id: number | null
  revision: number
  changes: Changes
}

const nothingTyped = { put: [], forget: [] }
const nothingKept: Kept = { id: null, revision: 0, changes: {} }

function keptFrom(body: DraftBody | null): Kept {
  return body ? { id: body.id, revision: body.revision, changes: bySlot(body.changes) } : nothingKept
}

/** Keeps the open draft on the server: one request at a time, each with what differs since the last. */
export function DraftProvider({ children }: { children: React.ReactNode }) {
  const queries = useQueryClient()
  const [chosen, setChosen] = useState<number | null>(() => Number(sessionStorage.getItem(CHOSEN)) || null)
  const sees = useCan('allocations.see')
  const signedIn = useQuery(me).data
  const who = `${signedIn?.email} for ${signedIn?.running.account}`
  const loaded = useQuery({ ...draftNow(chosen), staleTime: Infinity, enabled: sees })
  // What the draft holds is known at once to whoever asks, not only when it has been drawn.
  const latest = useRef(emptyDraft)
  const [draft, setDraft] = useState(emptyDraft)
  const act = useCallback((action: Action) => {
    latest.current = reduce(latest.current, action)
    setDraft(latest.current)
  }, [])
  const [facts, setFacts] = useState<DraftBody | null>(null)
  const [error, setError] = useState<unknown>(null)
  const [meantFor, propose] = useState('')
  const [look, setLook] = useState<CellName | null>(null)
  // What is on screen is of use to a draft that has changes only: without any nothing is drawn anew for it.
  const inSight = useRef<string[]>([])
  const [shown, setShown] = useState<string[]>([])
  const show = useCallback((accounts: string[]) => {
    inSight.current = accounts
    if (Object.keys(latest.current.changes).length > 0) setShown(accounts)
  }, [])
  const [sending, setSending] = useState(false)
  const kept = useRef<Kept>(nothingKept)

  const begin = useCallback(
    (body: DraftBody | null) => {
      kept.current = keptFrom(body)
      setFacts(body)
      setError(null)
      propose('')
      act({ do: 'load', changes: kept.current.changes })
    },
    [act],
  )
  useEffect(() => {
    if (loaded.data === undefined) return
    const typedBefore = kept.current.id === null ? difference({}, latest.current.changes) : nothingTyped
    begin(loaded.data)
    for (const typed of [takeUnsent(who, kept.current.id) ?? nothingTyped, typedBefore])
      if (!isEmpty(typed)) act({ do: 'load', changes: withDifference(latest.current.changes, typed) })
  }, [loaded.data, begin, act, who])
  // A page that is left or loaded again takes along what is on its way, since it may ask for the draft before that is
  // there.
  useEffect(() => {
    const leaving = () => keepUnsent(who, kept.current.id, difference(kept.current.changes, latest.current.changes))
    const back = (event: PageTransitionEvent) => {
      if (event.persisted) takeUnsent(who, kept.current.id)
    }
    window.addEventListener('pagehide', leaving)
    window.addEventListener('pageshow', back)
    return () => {
      window.removeEventListener('pagehide', leaving)
      window.removeEventListener('pageshow', back)
    }
  }, [who])
  useEffect(() => {
    if (loaded.isError && chosen !== null) setChosen(null)
  }, [loaded.isError, chosen])
  useEffect(() => {
    if (chosen === null) sessionStorage.removeItem(CHOSEN)
    else sessionStorage.setItem(CHOSEN, String(chosen))
  }, [chosen])

  const looking = useRef(look)
  useEffect(() => {
    looking.current = look
  }, [look])

  const sendOnce = useCallback(async () => {
    const asked = latest.current.changes
    const found = difference(kept.current.changes, asked)
    if (isEmpty(found)) return
    setSending(true)
    const [look, shown] = [looking.current, inSight.current]
    try {
      const forget = found.forget.map((slot) => ({
        kind: slot.slice(0, slot.indexOf('\n')),
        key: slot.slice(slot.indexOf('\n') + 1),
      }))
      const body = await take(
        api.PATCH('/api/drafts', {
          body: {
            draft: kept.current.id,
            revision: kept.current.revision,
            put: found.put,
            forget,
            look_at: look,
            shown,
            bare: true,
            name: null,
          },
        }),
      )
      kept.current = { id: body.id, revision: body.revision, changes: asked }
      setFacts(body)
      setError(null)
      queries.setQueryData(draftLooked(body.id, body.revision, look, shown).queryKey, body)
    } catch (trouble) {
      if (trouble instanceof ApiError && trouble.status === 409) {
        const id = kept.current.id
        const there = await (
          id === null
            ? take(api.GET('/api/drafts/current'))
            : take(api.GET('/api/drafts/{draft_id}', { params: { path: { draft_id: id } } }))
        ).catch(() => null)
        const still = there && ['open', 'held'].includes(there.state) ? there : null
        kept.current = keptFrom(still)
        setFacts(still)
        act({ do: 'load', changes: withDifference(kept.current.changes, found) })
      } else {
        setError(trouble)
        throw trouble
      }
    } finally {
      setSending(false)
    }
  }, [queries, act])
  // One request at a time, whoever asks for it: the next one is made on the revision the last one answered.
  const underWay = useRef<Promise<void> | null>(null)
  const send = useCallback(
    () =>
      (underWay.current ??= sendOnce().finally(() => {
        underWay.current = null
      })),
    [sendOnce],
  )

  const unsent = draft.changes !== kept.current.changes && !isEmpty(difference(kept.current.changes, draft.changes))
  useEffect(() => {
    if (!unsent || sending) return
    const timer = setTimeout(() => {
      send().catch(() => undefined)
    }, REST)
    return () => clearTimeout(timer)
  }, [draft.changes, unsent, sending, send])

  const count = Object.keys(draft.changes).length
  useEffect(() => {
    if (count > 0) setShown(inSight.current)
  }, [count])
  const looked = useQuery({
    ...draftLooked(facts?.id ?? 0, facts?.revision ?? 0, look, shown),
    enabled: facts !== null && count > 0 && !unsent && !sending,
  })
  const effect =
    count === 0
      ? undefined
      : ((looked.data?.id === facts?.id ? looked.data?.effect : null) ?? facts?.effect ?? undefined)

  const settle = useCallback(
    async (doing: (id: number, revision: number) => Promise<unknown>, ends: boolean) => {
      while (!isEmpty(difference(kept.current.changes, latest.current.changes))) await send()
      if (kept.current.id === null) return
      await doing(kept.current.id, kept.current.revision)
      if (ends) {
        setChosen(null)
        queries.setQueryData(draftNow(null).queryKey, null)
        begin(null)
        queries.removeQueries({ queryKey: ['drafts', 'looked'] })
        // What was drawn with it is not asked for again once it is gone.
        queries.removeQueries({ queryKey: ['pools', 'timeline'], predicate: (each) => each.queryKey[4] !== null })
      }
      const fresh = Promise.all(
        [
          ...[['drafts', 'list'], ['drafts', 'detail'], ['allocations'], ['today'], ['log'], ['pools'], ['accounts']],
          ...[['statements'], ['storage'], ['storage limits'], ['people']],
        ].map((queryKey) => queries.invalidateQueries({ queryKey })),
      )
      // Whoever ends a draft goes on at once; the screens catch up behind.
      if (!ends) await fresh
    },
    [send, queries, begin],
  )
  const open = useCallback(
    (id: number | null) => {
      setChosen(id)
      void queries.invalidateQueries({ queryKey: ['drafts'] })
    },
    [queries],
  )

  const value = useMemo<OpenDraft>(
    () => ({
      facts,
      changes: draft.changes,
      count,
      effect,
      busy: unsent || sending || looked.isFetching,
      error,
      lookAt: setLook,
      show,
      settle,
      open,
      now: () => latest.current.changes,
      set: (changes) => act({ do: 'set', changes }),
      forget: (slots) => act({ do: 'forget', slots }),
      meantFor: count ? meantFor : '',
      propose,
      undo: () => act({ do: 'undo' }),
      redo: () => act({ do: 'redo' }),
    }),
    [facts, meantFor, draft.changes, count, effect, unsent, sending, looked.isFetching, error, show, settle, open, act],
  )
  return <DraftContext value={value}>{children}</DraftContext>
}
