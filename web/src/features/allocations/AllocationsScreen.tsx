import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useCallback, useEffect, useMemo, useReducer, useRef, useState } from 'react'
import { useLocation, useSearchParams } from 'react-router'
import { api, take, type Schemas } from '../../api/client'
import { cell as cellQuery, grid as gridQuery, preview as previewQuery } from '../../api/queries'
import { useCommands, type Command } from '../../commands/registry'
import { cellKey, emptyDraft, fault, reduce, type Change, type Draft } from '../../domain/draft'
import { visiblePlaces } from '../../domain/tree'
import { parseUnits } from '../../domain/units'
import type { Position } from '../../grid/move'
import { Empty, Trouble, Wait } from '../../parts/States'
import { AllocationGrid } from './AllocationGrid'
import { DraftBar } from './DraftBar'
import { Drawer } from './Drawer'
import { changeOf, chosenPools, idles, modelOf, presses, readChoice, termsOf, type CellEffect } from './model'
import type { Edit } from './Row'
import { Toolbar } from './Toolbar'

const KEPT = 'fair-ladle-draft'

function keptDraft(): Draft {
  try {
    const changes = JSON.parse(sessionStorage.getItem(KEPT) ?? '{}') as Draft['changes']
    return { ...emptyDraft, changes }
  } catch {
    return emptyDraft
  }
}

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
  const found = useQuery(gridQuery)
  if (found.isPending) return <Wait what="the positions" />
  if (found.isError) return <Trouble error={found.error} again={() => void found.refetch()} />
  return <Loaded grid={found.data} />
}

function Loaded({ grid }: { grid: Schemas['AllocationGrid'] }) {
  const queries = useQueryClient()
  const location = useLocation()
  const [params, setParams] = useSearchParams()
  const model = useMemo(() => modelOf(grid), [grid])
  const choice = readChoice(params.get('pools'))
  const choiceKey = Array.isArray(choice) ? choice.join(',') : choice
  // eslint-disable-next-line react-hooks/exhaustive-deps -- the key stands for the choice
  const pools = useMemo(() => chosenPools(grid.pools, choice), [grid, choiceKey])
  const filter = params.get('show') ?? 'all'
  const find = params.get('find') ?? ''
  const [open, setOpen] = useState<Set<string>>(() => new Set(opened(params.get('open'), model.accounts.code, grid.top)))
  const [draft, act] = useReducer(reduce, undefined, keptDraft)
  useEffect(() => sessionStorage.setItem(KEPT, JSON.stringify(draft.changes)), [draft.changes])

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
    if (filter === 'attention') return visiblePlaces(model.accounts.parent, isOpen, (place) => named(place) && presses(pools, place))
    if (filter === 'idle') return visiblePlaces(model.accounts.parent, isOpen, (place) => named(place) && idles(pools, place))
    if (words.length) return visiblePlaces(model.accounts.parent, isOpen, named)
    return visiblePlaces(model.accounts.parent, isOpen)
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
      for (let above = model.accounts.parent[place] ?? -1; above >= 0; above = model.accounts.parent[above] ?? -1) next.add(model.accounts.code[above] ?? '')
      return next
    })
    // The address names a cell only when one comes here by it.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [location.key])
  useEffect(() => {
    const { account, product } = cursorCell.current
    const row = places.indexOf(model.placeOf.get(account) ?? -1)
    const column = pools.findIndex((pool) => pool.product === product)
    setCursor((now) => ({ row: row >= 0 ? row : Math.min(now.row, Math.max(0, places.length - 1)), column: column >= 0 ? column : Math.min(now.column, pools.length - 1) }))
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
    (account: string, product: string) => setParams((now) => { now.set('account', account); now.set('product', product); now.delete('find'); now.delete('show'); return now }),
    [setParams],
  )

  const place = places[cursor.row]
  const atAccount = place === undefined ? '' : (model.accounts.code[place] ?? '')
  const atPool = pools[Math.max(0, cursor.column)]
  const present = atPool && place !== undefined && atPool.present[place] === 1
  const chosen = useRested(present ? cellKey(atAccount, atPool.product) : '', 90)
  const [account = '', product = ''] = chosen.split('\n')

  useEffect(() => {
    const timer = setTimeout(() => {
      const query = new URLSearchParams(window.location.search)
      const set = (name: string, value: string) => (value ? query.set(name, value) : query.delete(name))
      set('account', account)
      set('product', product)
      const all = open.size >= model.accounts.code.length
      set('open', all ? '*' : [...open].filter((code) => code !== grid.top).slice(0, 60).join(','))
      window.history.replaceState(window.history.state, '', `${window.location.pathname}?${query.toString()}`)
    }, 250)
    return () => clearTimeout(timer)
  }, [account, product, open, model, grid.top])

  const changes = useMemo(() => Object.values(draft.changes), [draft.changes])
  const sound = changes.every((change) => fault(change) === null)
  const asked = useRested(changes, 60)
  const body = useMemo(() => asked.map(toBody), [asked])
  const effect = useQuery({
    ...previewQuery(body, product ? { account, product } : null),
    enabled: body.length > 0 && sound,
  })
  const effective = changes.length && sound && !effect.isError ? effect.data : undefined
  const effects = useMemo(() => {
    const found: Record<string, Record<string, CellEffect>> = {}
    for (const each of effective?.cells ?? []) (found[each.account] ??= {})[each.product] = each
    return found
  }, [effective?.cells])

  const setChange = useCallback((change: Change) => act({ do: 'set', change }), [])
  const cellData = (at: Position) => {
    const code = model.accounts.code[places[at.row] ?? 0] ?? ''
    const pool = pools[at.column]
    return pool ? queries.getQueryData(cellQuery(code, pool.product).queryKey) : undefined
  }
  const commit = (edit: Edit): boolean => {
    const cell = cellData(cursor)
    if (!cell) return false
    const text = edit.text.trim()
    const value = text === '' || text === 'none' || text === '-' ? null : parseUnits(text, cell.per_unit)
    if (value === null && text !== '' && text !== 'none' && text !== '-') return false
    const terms = draft.changes[cellKey(cell.account, cell.product)] ?? termsOf(cell.version)
    if (text !== '') setChange(changeOf(cell, edit.field === 'cap' ? { ...terms, cap: value } : { ...terms, reserve: value ?? 0 }))
    return true
  }

  const commands = useMemo<Command[]>(
    () => [
      { id: 'find', name: 'Find an account', keys: '/', group: 'Allocations', run: () => document.getElementById('find-account')?.focus() },
      { id: 'all-open', name: 'Open all accounts', keys: '+', group: 'Allocations', run: () => setOpen(new Set(model.accounts.code)) },
      { id: 'all-closed', name: 'Close all accounts', keys: '-', group: 'Allocations', run: () => setOpen(new Set([grid.top])) },
      { id: 'undo', name: 'Undo', keys: 'Ctrl Z', group: 'Draft', run: () => act({ do: 'undo' }) },
      { id: 'redo', name: 'Redo', keys: 'Ctrl Y', group: 'Draft', run: () => act({ do: 'redo' }) },
    ],
    [model, grid.top],
  )
  useCommands(commands)

  const [applying, setApplying] = useState<unknown>(null)
  const apply = async () => {
    try {
      await take(api.POST('/api/allocations/apply', { body: { changes: changes.map(toBody) } }))
      act({ do: 'discard' })
      setApplying(null)
      await Promise.all([queries.invalidateQueries({ queryKey: ['allocations'] }), queries.invalidateQueries({ queryKey: ['today'] }), queries.invalidateQueries({ queryKey: ['log'] })])
    } catch (error) {
      setApplying(error)
    }
  }
  const choose = useCallback(
    (name: string, value: string | null) =>
      setParams((now) => { if (value) now.set(name, value); else now.delete(name); return now }, { replace: true }),
    [setParams],
  )
  const attention = useMemo(() => model.accounts.code.filter((_, at) => presses(pools, at)).length, [model, pools])

  return (
    <div className="workspace">
      <div className="gridside">
        <Toolbar all={grid.pools} pools={pools} choice={choiceKey} filter={filter} find={find} attention={attention} choose={choose} />
        {pools.length === 0 || places.length === 0 ? (
          <Empty title={pools.length === 0 ? 'No pools to show' : 'No account like that'}>
            {pools.length === 0 ? 'Choose other pools, or bring in lots with an intake.' : filter === 'attention' ? 'Every account in these pools is within its cap.' : 'Try other words, or show all accounts.'}
          </Empty>
        ) : (
          <AllocationGrid
            model={model} pools={pools} places={places} cursor={cursor} setCursor={moveCursor} isOpen={find || filter !== 'all' ? alwaysOpen : isOpen} toggle={toggle} effects={effects}
            changes={draft.changes} commit={commit} mayEdit={(at) => cellData(at)?.may_change !== false}
            clear={(at) => act({ do: 'forget', account: model.accounts.code[places[at.row] ?? 0] ?? '', product: pools[at.column]?.product ?? '' })}
          />
        )}
        {changes.length > 0 && (
          <DraftBar
            changes={changes} effect={effective} error={applying ?? (effect.isError ? effect.error : null)} busy={effect.isFetching || asked !== changes}
            fault={changes.map(fault).find((each) => each !== null) ?? null} nameOf={(code) => model.accounts.name[model.placeOf.get(code) ?? 0] ?? code}
            pools={grid.pools} look={look} discard={() => { act({ do: 'discard' }); setApplying(null) }} apply={apply}
          />
        )}
      </div>
      <aside className="drawer" aria-label="The chosen cell">
        {product ? (
          <Drawer account={account} product={product} changes={draft.changes} effect={effective} set={setChange} look={look} />
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

function toBody(change: Change): Schemas['ChangeBody'] {
  const { account, product, reserve, cap, at_cap, burst, grace_days, seen } = change
  return { account, product, reserve, cap, at_cap, burst, grace_days, seen }
}
