import { useQuery } from '@tanstack/react-query'
import { useCallback, useEffect, useMemo, useRef, useState } from 'react'
import { useLocation, useSearchParams } from 'react-router'
import type { Schemas } from '../../api/client'
import { gridOn, type Effect, type Pool } from '../../api/queries'
import { useCommands, type Command } from '../../commands/registry'
import type { Change, Changes } from '../../domain/draft'
import { dayName } from '../../domain/months'
import { isClosed, visiblePlaces } from '../../domain/tree'
import type { Position } from '../../grid/move'
import type { Range } from '../../grid/range'
import { useAddress } from '../../parts/address'
import { Empty, Trouble, Wait } from '../../parts/States'
import { useDraft } from '../drafts/context'
import { AllocationGrid } from './AllocationGrid'
import { canStand, copied, fill, paste, slotsIn, typeInto, type Sheet } from './cellEditing'
import { DaysCompared } from './DaysCompared'
import { Drawer } from './Drawer'
import { chosenPools, differences, effectsOf, idles, modelOf, presses, readChoice, type Model } from './model'
import type { Edit } from './Row'
import { ShareOut } from './ShareOut'
import { Toolbar } from './Toolbar'

/** A value that follows another once it has rested. */
function useRested<T>(value: T, milliseconds: number): T {
  const [rested, setRested] = useState(value)
  useEffect(() => {
    const timer = setTimeout(() => setRested(value), milliseconds)
    return () => clearTimeout(timer)
  }, [value, milliseconds])
  return rested
}

/** Who has what, and who should have what? */
export function AllocationsScreen() {
  const [params] = useSearchParams()
  const on = params.get('on')
  const against = params.get('against')
  const found = useQuery(gridOn(on))
  if (found.isPending) return <Wait what="the positions" />
  if (found.isError) return <Trouble error={found.error} again={() => void found.refetch()} />
  return <Loaded grid={found.data} on={on} against={on ? against : null} />
}

function Loaded({ grid, on, against }: { grid: Schemas['AllocationGrid']; on: string | null; against: string | null }) {
  const location = useLocation()
  const [params, change] = useAddress()
  const model = useMemo(() => modelOf(grid), [grid])
  const choice = readChoice(params.get('pools'))
  const choiceKey = Array.isArray(choice) ? choice.join(',') : choice
  // eslint-disable-next-line react-hooks/exhaustive-deps -- the key stands for the choice
  const pools = useMemo(() => chosenPools(grid.pools, choice), [grid, choiceKey])
  const filter = params.get('show') ?? 'all'
  const [find, setFind] = useState(params.get('find') ?? '')
  const [open, setOpen] = useState<Set<string>>(
    () => new Set(opened(params.get('open'), model.accounts.code, grid.top)),
  )
  const draft = useDraft()
  const { changes, effect, lookAt } = draft

  const isOpen = useCallback((place: number) => open.has(model.accounts.code[place] ?? ''), [open, model])
  const toggle = useCallback(
    (place: number, to?: boolean) =>
      setOpen((now) => {
        const code = model.accounts.code[place] ?? ''
        const next = new Set(now)
        if (to ?? !next.has(code)) next.add(code)
        else next.delete(code)
        return next
      }),
    [model],
  )
  const places = useMemo(() => {
    const words = find.toLowerCase().split(/\s+/).filter(Boolean)
    const named = (place: number) => {
      const text = `${model.accounts.name[place] ?? ''} ${model.accounts.code[place] ?? ''}`.toLowerCase()
      return words.every((word) => text.includes(word))
    }
    const shut = (place: number) => isClosed(model.accounts, place)
    if (filter === 'closed') return visiblePlaces(model.accounts.parent, isOpen, (place) => named(place) && shut(place))
    if (filter === 'attention')
      return visiblePlaces(model.accounts.parent, isOpen, (place) => named(place) && presses(pools, place))
    if (filter === 'idle')
      return visiblePlaces(model.accounts.parent, isOpen, (place) => named(place) && idles(pools, place))
    if (words.length) return visiblePlaces(model.accounts.parent, isOpen, named)
    return visiblePlaces(model.accounts.parent, isOpen).filter((place) => !shut(place))
  }, [model, pools, filter, find, isOpen])

  const [cursor, setCursor] = useState<Position>({ row: 0, column: 0 })
  const cursorCell = useRef({ account: params.get('account') ?? '', product: params.get('product') ?? '' })
  useEffect(() => {
    const query = new URLSearchParams(location.search)
    const account = query.get('account')
    if (!account) return
    cursorCell.current = { account, product: query.get('product') ?? cursorCell.current.product }
    const place = model.placeOf.get(account)
    if (place === undefined) return
    setOpen((now) => {
      const next = new Set(now)
      for (let above = model.accounts.parent[place] ?? -1; above >= 0; above = model.accounts.parent[above] ?? -1)
        next.add(model.accounts.code[above] ?? '')
      return next
    })
    // The address names a cell only when one comes here by it.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [location.key])
  useEffect(() => {
    const { account, product } = cursorCell.current
    const row = places.indexOf(model.placeOf.get(account) ?? -1)
    const column = pools.findIndex((pool) => pool.product === product)
    setCursor((now) => ({
      row: row >= 0 ? row : Math.min(now.row, Math.max(0, places.length - 1)),
      column: column >= 0 ? column : Math.min(now.column, pools.length - 1),
    }))
  }, [places, pools, model])
  const moveCursor = useCallback(
    (to: Position) => {
      const account = model.accounts.code[places[to.row] ?? 0] ?? ''
      cursorCell.current = { account, product: pools[to.column]?.product ?? cursorCell.current.product }
      setCursor(to)
    },
    [model, places, pools],
  )
  const look = useCallback(
    (account: string, product: string) => {
      setFind('')
      change({ account, product, show: null }, 'in the history')
    },
    [change],
  )

  const place = places[cursor.row]
  const atAccount = place === undefined ? '' : (model.accounts.code[place] ?? '')
  const atPool = pools[Math.max(0, cursor.column)]
  const present = atPool && place !== undefined && atPool.present[place] === 1
  const chosen = useRested(present ? `${atAccount}\n${atPool.product}` : '', 90)
  const [account = '', product = ''] = chosen.split('\n')

  useEffect(() => {
    const timer = setTimeout(() => {
      const query = new URLSearchParams(window.location.search)
      const set = (name: string, value: string) => (value ? query.set(name, value) : query.delete(name))
      set('account', account)
      set('product', product)
      set('find', find)
      const all = open.size >= model.accounts.code.length
      set(
        'open',
        all
          ? '*'
          : [...open]
              .filter((code) => code !== grid.top)
              .slice(0, 60)
              .join(','),
      )
      window.history.replaceState(window.history.state, '', `${window.location.pathname}?${query.toString()}`)
    }, 250)
    return () => clearTimeout(timer)
    // The address says the whole view again whenever a part of it was chosen anew.
  }, [account, product, open, model, grid.top, find, params])

  useEffect(() => {
    lookAt(product ? { account, product } : null)
  }, [account, product, lookAt])
  const other = useQuery({ ...gridOn(against), enabled: on !== null })
  const effects = useMemo(
    () => (on ? (other.data ? differences(grid, other.data) : {}) : effectsOf(effect)),
    [effect, on, other.data, grid],
  )
  const [listing, setListing] = useState(false)
  const changed = useMemo(() => changedByAccount(changes), [changes])
  const faults = useMemo(() => faultsByCell(effect), [effect])

  const sheet = useMemo<Sheet>(
    () => ({ model, pools, places, changes, effects }),
    [model, pools, places, changes, effects],
  )
  const [note, setNote] = useState('')
  // One edit after the other, each on what the one before made of the draft: keys are faster than answers.
  const edits = useRef(Promise.resolve())
  const put = (make: (sheet: Sheet) => Promise<Change[]>) => {
    if (on) {
      setNote('This is another day, for looking at. Go back to today to change anything.')
      return
    }
    setNote('')
    edits.current = edits.current
      .then(() => make({ ...sheet, changes: draft.now() }))
      .then(draft.set, (error: unknown) => setNote(error instanceof Error ? error.message : 'That did not work.'))
  }
  const commit = (edit: Edit, range: Range, active: Position): boolean => {
    if (edit.text.trim() === '') return true
    if (!canStand(sheet, active, edit.field, edit.text)) return false
    put((there) => typeInto(there, range, edit.field, edit.text))
    return true
  }

  const [sharing, setSharing] = useState(false)
  const [range, setRange] = useState<Range | null>(null)
  const commands = useMemo<Command[]>(
    () => [
      { id: 'share-out', name: 'Share out', keys: 's', group: 'Allocations', run: () => setSharing(true) },
      {
        id: 'find',
        name: 'Find an account',
        keys: '/',
        group: 'Allocations',
        run: () => document.getElementById('find-account')?.focus(),
      },
      {
        id: 'all-open',
        name: 'Open all accounts',
        keys: ']',
        group: 'Allocations',
        run: () => setOpen(new Set(model.accounts.code)),
      },
      {
        id: 'all-closed',
        name: 'Close all accounts',
        keys: '[',
        group: 'Allocations',
        run: () => setOpen(new Set([grid.top])),
      },
    ],
    [model, grid.top],
  )
  useCommands(commands)

  const choose = useCallback((name: string, value: string | null) => change({ [name]: value }), [change])
  const startSharing = useCallback(() => setSharing(true), [])
  const closed = useMemo(() => model.accounts.status.filter((each) => each === 'closed').length, [model])
  const attention = useMemo(() => model.accounts.code.filter((_, at) => presses(pools, at)).length, [model, pools])

  return (
    <div className="workspace">
      <div className="gridside">
        <Toolbar
          all={grid.pools}
          pools={pools}
          choice={choiceKey}
          filter={filter}
          find={find}
          attention={attention}
          choose={choose}
          setFind={setFind}
          shareOut={startSharing}
          on={on}
          against={against}
          closed={closed}
        />
        {pools.length === 0 || places.length === 0 ? (
          <Empty title={pools.length === 0 ? 'No pools to show' : 'No account like that'}>
            {pools.length === 0
              ? 'Choose other pools, or bring in lots with an intake.'
              : filter === 'attention'
                ? 'Every account in these pools is within its cap.'
                : 'Try other words, or show all accounts.'}
          </Empty>
        ) : (
          <AllocationGrid
            model={model}
            pools={pools}
            places={places}
            cursor={cursor}
            setCursor={moveCursor}
            onRange={setRange}
            isOpen={find || filter !== 'all' ? alwaysOpen : isOpen}
            toggle={toggle}
            effects={effects}
            changed={changed}
            faults={faults}
            commit={commit}
            fill={(range, way) => put((there) => fill(there, range, way))}
            paste={(range, text) => put((there) => paste(there, range, text))}
            copied={(range) => copied(sheet, range)}
            clear={(range) => draft.forget(slotsIn(sheet, range))}
          />
        )}
        {on && (
          <p className="note quiet" role="status">
            {Object.values(effects).reduce((sum, cells) => sum + Object.keys(cells).length, 0)} cells differ from{' '}
            {against ? dayName(against) : 'today'}; they are shaded. Nothing is changed here.{' '}
            {other.data && (
              <button type="button" className="btn btn-link btn-sm p-0" onClick={() => setListing(true)}>
                List what differs
              </button>
            )}
          </p>
        )}
        {listing && on && other.data && (
          <DaysCompared day={grid} other={other.data} differing={effects} close={() => setListing(false)} />
        )}
        {note && (
          <p className="note over" role="alert">
            {note}{' '}
            <button type="button" className="btn btn-link btn-sm p-0" onClick={() => setNote('')}>
              Close
            </button>
          </p>
        )}
      </div>
      {sharing && atPool && (
        <ShareOut
          pool={atPool}
          accounts={sharedTo(model, atPool, places, range, place ?? 0)}
          close={() => setSharing(false)}
        />
      )}
      <aside className="drawer" aria-label="The chosen cell">
        {product ? (
          <Drawer
            account={account}
            product={product}
            changes={changes}
            effect={effect}
            set={draft.set}
            look={look}
            on={on}
          />
        ) : (
          <p className="quiet">No pool of this product reaches this account.</p>
        )}
      </aside>
    </div>
  )
}

const alwaysOpen = () => true

function opened(text: string | null, codes: string[], top: string): string[] {
  if (text === '*') return codes
  return [top, ...(text ?? '').split(',').filter(Boolean)]
}

/** Whom to share out to: the chosen rows; with one row, the accounts directly below it, or else its siblings. */
function sharedTo(
  model: Model,
  pool: Pool,
  places: number[],
  range: Range | null,
  place: number,
): { code: string; name: string }[] {
  const { parent, code, name } = model.accounts
  const many = range && range.to.row > range.from.row
  const below = code.map((_, at) => at).filter((at) => parent[at] === place)
  const chosen = many
    ? places.slice(range.from.row, range.to.row + 1)
    : below.length
      ? below
      : code.map((_, at) => at).filter((at) => parent[at] === parent[place] && at !== 0)
  return chosen
    .filter((at) => pool.present[at] === 1 && at !== 0)
    .map((at) => ({ code: code[at] ?? '', name: name[at] ?? '' }))
}

/** Which products are changed in the draft, as one text an account, so that rows compare it at a glance. */
function changedByAccount(changes: Changes): Record<string, string> {
  const found: Record<string, string> = {}
  for (const change of Object.values(changes))
    if (change.kind === 'allocation') found[change.account] = `${found[change.account] ?? '|'}${change.product}|`
  return found
}

/** What is wrong with the draft's changes, by account and product. */
function faultsByCell(effect: Effect | undefined): Record<string, Record<string, string>> {
  const found: Record<string, Record<string, string>> = {}
  for (const fault of effect?.faults ?? []) {
    const [account = '', product = ''] = fault.key.split('\n')
    if (fault.kind === 'allocation') (found[account] ??= {})[product] = fault.detail
  }
  return found
}
