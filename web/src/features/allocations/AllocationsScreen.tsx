import { messageOf } from '../../api/client'
import { whole } from '../../domain/units'
import { useQuery } from '@tanstack/react-query'
import { lazy, Suspense, useCallback, useEffect, useMemo, useRef, useState } from 'react'
import { NavigationType, useLocation, useNavigationType } from 'react-router'
import { daysCompared, productsInSight, type Effect, type ProductName } from '../../api/queries'
import { useCommands, type Command } from '../../commands/registry'
import type { Change, Changes } from '../../domain/draft'
import { dayName } from '../../domain/months'
import type { Position } from '../../grid/move'
import type { Range } from '../../grid/range'
import { useAddress } from '../../components/address'
import { Empty, Trouble, Wait } from '../../components/States'
import { useDraft } from '../drafts/context'
import { useRested } from '../../components/useRested'
import { AllocationGrid } from './AllocationGrid'
import { allOpen, noneOpen, read, withOpen, written, type Branches } from './branches'
import { canStand, copied, copiedWhole, fill, paste, slotsIn, typeInto, type Sheet } from './cellEditing'
import { Drawer } from './Drawer'
import {
  accountsBelow,
  accountsIn,
  useListing,
  type Asked,
  type ListedAccount,
  type Listing,
  type NamedAccount,
} from './listing'
import { chosenPools, effectsOf, readChoice, withDraft } from './model'
import type { Edit } from './Row'
import { ShareOut } from './ShareOut'
import { Toolbar } from './Toolbar'

const DaysCompared = lazy(() => import('./DaysCompared').then((part) => ({ default: part.DaysCompared })))

/** Who has what, and who should have what? */
export default function AllocationsScreen() {
  const found = useQuery(productsInSight)
  if (found.isPending) return <Wait what="the positions" />
  if (found.isError) return <Trouble page="Allocations" error={found.error} again={() => void found.refetch()} />
  return <Loaded products={found.data} />
}

/** So many rows above and below what is on screen, and so many in all, are told how the draft leaves them. */
const BESIDES = 10
const MOST_SHOWN = 200

/** Keys the grid hears itself. */
const GRID_KEYS: Command[] = (
  [
    ['Enter', 'Edit the cap, or open and close a branch on its name'],
    ['r', 'Edit the reserve'],
    ['20/60', 'Type a reserve and a cap'],
    ['+5', 'Type more, or less with -'],
    ['Ctrl D', 'Fill down'],
    ['Ctrl R', 'Fill right'],
    ['Ctrl A', 'Choose all cells'],
    ['Shift Arrow', 'Choose several cells'],
    ['Space', 'Open or close a branch'],
    ['Delete', 'Take changes back'],
  ] as const
).map(([keys, name]) => ({ id: `grid ${keys}`, name, keys, group: 'In the grid' }))

const SHOWN = ['attention', 'idle', 'closed'] as const

function Loaded({ products }: { products: ProductName[] }) {
  const location = useLocation()
  const way = useNavigationType()
  const [arrival, setArrival] = useState(location.key)
  useEffect(() => {
    // A filter chosen here is no arrival.
    if (way !== NavigationType.Replace) setArrival(location.key)
  }, [way, location.key])
  const [params, change] = useAddress()
  const on = params.get('on')
  const against = on ? params.get('against') : null
  const choice = readChoice(params.get('pools'))
  const choiceKey = Array.isArray(choice) ? choice.join(',') : choice
  // eslint-disable-next-line react-hooks/exhaustive-deps -- the key stands for the choice
  const chosenProducts = useMemo(() => chosenPools(products, choice), [products, choiceKey])
  const filter = SHOWN.find((each) => each === params.get('show')) ?? 'all'
  const [find, setFind] = useState(params.get('find') ?? '')
  const words = useRested(find, 150)
  const [branches, setBranches] = useState<Branches>(() => read(params.get('open')))
  const draft = useDraft()
  const { changes, effect, lookAt, show } = draft

  const asked = useMemo<Asked>(
    () => ({
      products: chosenProducts.map((each) => each.product),
      branches,
      show: filter,
      find: words,
      on,
      against,
    }),
    [chosenProducts, branches, filter, words, on, against],
  )
  const cursorCell = useRef({
    account: params.get('account') ?? '',
    product: params.get('product') ?? '',
    atName: false,
  })
  useEffect(() => {
    const query = new URLSearchParams(location.search)
    const account = query.get('account')
    if (account)
      cursorCell.current = { account, product: query.get('product') ?? cursorCell.current.product, atName: false }
    // The address names a cell only when one comes here by it.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [location.key])
  const around = useCallback(() => cursorCell.current.account, [])
  const { listing, error, again, onShown: fetchShown } = useListing(asked, location.key, around)
  const seen = useRef<readonly [number, number]>([0, 0])
  const told = useRef<readonly [number, number] | null>(null)
  /** What a draft does is asked of the rows on screen and some beside them: anew where one gets beyond these. */
  const tellDraft = useCallback(() => {
    const [first, last] = seen.current
    if (told.current && first >= told.current[0] && last <= told.current[1]) return
    const [from, to] = (told.current = [Math.max(0, first - BESIDES), last + BESIDES])
    const codes: string[] = []
    for (let row = from; row <= to && codes.length < MOST_SHOWN; row++) {
      const found = listing?.at(row)
      if (found) codes.push(found.code)
    }
    show(codes)
  }, [listing, show])
  useEffect(() => {
    told.current = null
    tellDraft()
  }, [tellDraft])
  const onShown = useCallback(
    (first: number, last: number, cursor: number) => {
      fetchShown(first, last, cursor)
      seen.current = [first, last]
      tellDraft()
    },
    [fetchShown, tellDraft],
  )
  const pools = useMemo(
    () => withDraft(listing?.pools ?? [], listing?.top, on ? undefined : effect),
    [listing, effect, on],
  )
  const opened = listing?.opened.join('\n') ?? ''
  useEffect(() => {
    if (opened) setBranches((now) => withOpen(now, opened.split('\n'), true))
  }, [opened, listing?.key])
  const toggle = useCallback((code: string, open: boolean) => setBranches((now) => withOpen(now, [code], open)), [])

  const [cursor, setCursor] = useState<Position>({ row: 0, column: 0 })
  const listKey = listing?.key
  const poolKey = pools.map((pool) => pool.product).join(',')
  useEffect(() => {
    if (!listing) return
    const { account, product, atName } = cursorCell.current
    const row = listing.rowOf(account) ?? (listing.around === account ? listing.place : null)
    const column = atName ? -1 : pools.findIndex((pool) => pool.product === product)
    setCursor((now) => ({
      row: row ?? Math.min(now.row, Math.max(0, listing.count - 1)),
      column: atName || column >= 0 ? column : Math.min(now.column, Math.max(0, pools.length - 1)),
    }))
    // Only where other rows or pools are listed: the cursor stays while more of them come into sight.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [listKey, listing?.madeOf, poolKey])
  const current = listing?.at(cursor.row)
  useEffect(() => {
    // A row one went to before it was here.
    if (current && cursorCell.current.account === '') cursorCell.current.account = current.code
  }, [current])
  const moveCursor = useCallback(
    (to: Position) => {
      cursorCell.current = {
        account: listing?.at(to.row)?.code ?? '',
        product: pools[to.column]?.product ?? cursorCell.current.product,
        atName: to.column < 0,
      }
      setCursor(to)
    },
    [listing, pools],
  )
  const look = useCallback(
    (account: string, product: string) => {
      setFind('')
      change({ account, product, show: null }, 'in the history')
    },
    [change],
  )

  const atPool = pools[Math.max(0, cursor.column)]
  const present = atPool && current?.pools[Math.max(0, cursor.column)]?.present[current.place] === 1
  const chosen = useRested(present ? `${current.code}\n${atPool.product}` : '', 90)
  const [account = '', product = ''] = chosen.split('\n')

  const listed = listing !== undefined
  useEffect(() => {
    // Until the rows are there, the address alone knows which cell is meant.
    if (!listed) return
    const timer = setTimeout(() => {
      const query = new URLSearchParams(window.location.search)
      const set = (name: string, value: string) => (value ? query.set(name, value) : query.delete(name))
      set('account', account)
      set('product', product)
      set('find', find)
      set('open', written(branches))
      window.history.replaceState(window.history.state, '', `${window.location.pathname}?${query.toString()}`)
    }, 250)
    return () => clearTimeout(timer)
    // The address says the whole view again whenever a part of it was chosen anew.
  }, [listed, account, product, branches, find, params])

  useEffect(() => {
    lookAt(product ? { account, product } : null)
  }, [account, product, lookAt])
  const compared = useQuery({ ...daysCompared(on ?? '', against, asked.products), enabled: on !== null })
  const effects = useMemo(() => (on ? {} : effectsOf(effect)), [effect, on])
  const [listsDays, setListsDays] = useState(false)
  const changed = useMemo(() => changedByAccount(changes), [changes])
  const faults = useMemo(() => faultsByCell(effect), [effect])

  const [note, setNote] = useState('')
  const say = (error: unknown) => setNote(messageOf(error))
  const sheet = useMemo<Sheet | undefined>(
    () => listing && { listing, pools, changes, effects },
    [listing, pools, changes, effects],
  )
  // One edit after the other, each on what the one before made of the draft: keys are faster than answers.
  const edits = useRef(Promise.resolve())
  const put = (make: (sheet: Sheet) => Promise<Change[]>) => {
    if (on) {
      setNote('You are viewing another day. Go back to today to make changes.')
      return
    }
    if (!sheet) return
    setNote('')
    edits.current = edits.current.then(() => make({ ...sheet, changes: draft.now() })).then(draft.set, say)
  }
  const commit = (edit: Edit, range: Range, active: Position): boolean => {
    if (edit.text.trim() === '') return true
    if (!sheet || !canStand(sheet, active, edit.field, edit.text)) return false
    put((there) => typeInto(there, range, edit.field, edit.text))
    return true
  }

  const [range, setRange] = useState<Range | null>(null)
  const [sharing, setSharing] = useState<(() => Promise<NamedAccount[]>) | null>(null)
  const startSharing = useRefreshed(() => {
    if (listing && atPool && current) setSharing(() => () => sharedTo(listing, atPool.product, current, range))
  })
  const commands = useMemo<Command[]>(
    () => [
      { id: 'share-out', name: 'Share out', keys: 's', group: 'Allocations', run: startSharing },
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
        run: () => setBranches(allOpen),
      },
      {
        id: 'all-closed',
        name: 'Close all accounts',
        keys: '[',
        group: 'Allocations',
        run: () => {
          cursorCell.current.account = ''
          setBranches(noneOpen)
        },
      },
    ],
    [startSharing],
  )
  useCommands(commands)
  useCommands(GRID_KEYS)
  const ready = listing !== undefined && atPool !== undefined && current !== undefined
  useEffect(() => {
    if (!ready || !new URLSearchParams(window.location.search).has('share')) return
    change({ share: null })
    startSharing()
  }, [ready, change, startSharing, location.key])

  // Whoever presses Enter before what is found has come goes to the first of it, not of what was there before.
  const [enters, setEnters] = useState(false)
  const arrived = listing?.asked.find === find
  useEffect(() => {
    if (!enters || !arrived) return
    document.querySelector<HTMLElement>('.agrid [tabindex="0"]')?.focus()
    setEnters(false)
  }, [enters, arrived])
  const enter = useCallback(() => setEnters(true), [])
  const choose = useCallback((name: string, value: string | null) => change({ [name]: value }), [change])
  if (error && !listing) return <Trouble error={error} again={again} />
  if (!listing || !sheet) return <Wait what="the positions" />

  return (
    <div className="workspace">
      <div className="gridside">
        <Toolbar
          all={products}
          pools={chosenProducts}
          choice={choiceKey}
          filter={filter}
          find={find}
          attention={listing.attention}
          choose={choose}
          setFind={setFind}
          enter={enter}
          shareOut={startSharing}
          on={on}
          against={against}
          closed={listing.closed}
        />
        {pools.length === 0 || listing.count === 0 ? (
          <Empty title={pools.length === 0 ? 'No pools to show' : 'No accounts found'}>
            {pools.length === 0
              ? 'Choose other pools, or buy the first lot in Pools.'
              : filter === 'attention'
                ? 'Every account in these pools is within its cap.'
                : 'Try other words, or show all accounts.'}
          </Empty>
        ) : (
          <AllocationGrid
            listing={listing}
            arrival={arrival}
            pools={pools}
            onShown={onShown}
            cursor={cursor}
            setCursor={moveCursor}
            onRange={setRange}
            toggles={!find && filter === 'all'}
            toggle={toggle}
            effects={effects}
            changed={changed}
            faults={faults}
            commit={commit}
            fill={(range, way) => put((there) => fill(there, range, way))}
            paste={(range, text) => put((there) => paste(there, range, text))}
            copied={(range) => copied(sheet, range)}
            copyAll={(range) =>
              void copiedWhole(sheet, range)
                .then((text) => navigator.clipboard.writeText(text))
                .catch(say)
            }
            clear={(range) => void slotsIn(sheet, range).then(draft.forget, say)}
          />
        )}
        {on && (
          <p className="note quiet" role="status">
            {compared.data
              ? `${whole(compared.data.count)} ${compared.data.count === 1 ? 'cell differs' : 'cells differ'} from ${against ? dayName(against) : 'today'}; they are shaded. Read only. `
              : 'Read only. '}
            {compared.data && compared.data.count > 0 && (
              <button type="button" className="btn btn-link btn-sm p-0" onClick={() => setListsDays(true)}>
                List differences
              </button>
            )}
          </p>
        )}
        {listsDays && on && compared.data && (
          <Suspense fallback={null}>
            <DaysCompared products={products} found={compared.data} close={() => setListsDays(false)} />
          </Suspense>
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
      {sharing && atPool && <ShareOut pool={atPool} find={sharing} close={() => setSharing(null)} />}
      <aside className="drawer" aria-label="Selected cell">
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

/** The same function all along, which does what was last handed in. */
function useRefreshed(act: () => void): () => void {
  const latest = useRef(act)
  useEffect(() => {
    latest.current = act
  })
  return useCallback(() => latest.current(), [])
}

/** Whom to share out to: the chosen rows; with one row, the accounts directly below it, or else its siblings. */
async function sharedTo(
  listing: Listing,
  product: string,
  current: ListedAccount,
  range: Range | null,
): Promise<NamedAccount[]> {
  if (range && range.to.row > range.from.row)
    return (await accountsIn(listing, range.from.row, range.to.row)).filter((each) => each.code !== listing.top)
  if (current.below) return accountsBelow(current.code, product)
  const above = listing.at(current.above)
  return above ? accountsBelow(above.code, product) : []
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
