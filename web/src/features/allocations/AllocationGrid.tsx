import { useVirtualizer, type Range as Shown } from '@tanstack/react-virtual'
import { memo, useCallback, useEffect, useLayoutEffect, useRef, useState } from 'react'
import type { Pool } from '../../api/queries'
import { shortDay } from '../../domain/months'
import { roundUnits, unitName } from '../../domain/units'
import { move, type Position } from '../../grid/move'
import { Places } from '../../grid/places'
import { between, isOne, type Range } from '../../grid/range'
import { heightInRows, offsetInLots, Rest } from '../../grid/scrolling'
import { Gauge, GaugeKey } from '../../components/Gauge'
import { differingIn, type Listing } from './listing'
import type { CellEffect } from './model'
import { Row, ROW, type Edit } from './Row'

const NAME = 210
const COLUMN = 137
const HEAD = 74
/** Rows drawn beyond either edge. */
const BEYOND = 2

export interface GridProps {
  listing: Listing
  /** Another one whenever somebody comes here by a link: the focus goes to its cell. */
  arrival: string
  pools: Pool[]
  /** Told which rows are on screen, and which one the cursor is in. */
  onShown: (first: number, last: number, cursor: number) => void
  cursor: Position
  setCursor: (cursor: Position) => void
  /** Told whenever another block of cells is chosen. */
  onRange: (range: Range | null) => void
  /** Whether branches can be opened and shut here. */
  toggles: boolean
  toggle: (code: string, open: boolean) => void
  effects: Record<string, Record<string, CellEffect>>
  changed: Record<string, string>
  faults: Record<string, Record<string, string>>
  /** Take over what was typed, into a cell or a whole range; false where it cannot stand in the active cell. */
  commit: (edit: Edit, range: Range, active: Position) => boolean
  fill: (range: Range, way: 'down' | 'right') => void
  paste: (range: Range, text: string) => void
  /** A range as text, null where not all of it is here. */
  copied: (range: Range) => string | null
  /** Copy a range that is not all here. */
  copyAll: (range: Range) => void
  clear: (range: Range) => void
}

/** The tree of accounts against pools: only what is on screen is there, and one key wakes two rows. */
export function AllocationGrid(props: GridProps) {
  const { listing, pools, cursor, setCursor, onShown } = props
  const scroller = useRef<HTMLDivElement>(null)
  const [[width, height], setSize] = useState([900, 600])
  const [places] = useState(() => new Places())
  const [left, setLeft] = useState(0)
  const [edit, setEdit] = useState<Edit | null>(null)
  const [anchor, setAnchor] = useState<Position | null>(null)
  const range = between(anchor ?? cursor, cursor)
  const { onRange } = props
  useEffect(() => onRange(anchor ? between(anchor, cursor) : null), [anchor, cursor, onRange])
  const wantsFocus = useRef(false)
  const inside = useRef(false)
  const arrived = useRef('')
  useLayoutEffect(() => {
    if (arrived.current === props.arrival) return
    // Whoever did not wait for the grid, and is in the draft or the finder already, stays there.
    const elsewhere = document.activeElement?.closest('#screen :is(a, button, input, select)')
    wantsFocus.current = arrived.current !== '' || !elsewhere || elsewhere.closest('h1') !== null
    arrived.current = props.arrival
  }, [props.arrival])

  useLayoutEffect(() => {
    const element = scroller.current
    if (!element) return
    const measure = () => setSize([element.clientWidth, element.clientHeight])
    const watch = new ResizeObserver(measure)
    watch.observe(element)
    measure()
    return () => watch.disconnect()
  }, [])

  const nameWidth = width < 600 ? 150 : NAME
  const columnWidth = Math.max(COLUMN, Math.floor((width - nameWidth) / Math.max(1, pools.length)))
  const overflows = nameWidth + columnWidth * pools.length > width
  useLayoutEffect(() => {
    const element = scroller.current
    if (!element || !overflows) return
    // Not React's: it would look for what to do at every frame, and there is something only where one goes sideways.
    let was = -1
    const scrolled = () => {
      if (element.scrollLeft !== was) setLeft((was = element.scrollLeft))
    }
    scrolled()
    element.addEventListener('scroll', scrolled, { passive: true })
    return () => element.removeEventListener('scroll', scrolled)
  }, [overflows])
  const first = overflows ? Math.max(0, Math.floor(left / columnWidth)) : 0
  const last = overflows
    ? Math.min(pools.length, first + Math.ceil((width - nameWidth) / columnWidth) + 1)
    : pools.length

  const rangeExtractor = useCallback(
    (range: Shown) => {
      // As many at every offset, so that a row comes when one goes.
      const first = Math.max(0, range.startIndex - BEYOND)
      const many = Math.min(range.count - first, Math.ceil(height / ROW) + 1 + 2 * BEYOND)
      const found = Array.from({ length: many }, (_, place) => first + place)
      if (cursor.row >= 0 && cursor.row < first) found.unshift(cursor.row)
      else if (cursor.row >= first + many && cursor.row < range.count) found.push(cursor.row)
      return found
    },
    [cursor.row, height],
  )
  const virtual = useVirtualizer({
    count: listing.count,
    getScrollElement: () => scroller.current,
    estimateSize: () => ROW,
    overscan: BEYOND,
    observeElementRect: inWholeRows,
    observeElementOffset: inLots,
    scrollPaddingStart: HEAD + 2,
    scrollPaddingEnd: 4,
    paddingStart: 0,
    rangeExtractor,
  })

  const page = Math.max(1, Math.floor((virtual.scrollRect?.height ?? 600) / ROW) - 3)
  useLayoutEffect(() => {
    // The row the cursor stood on may be gone with the rows; the focus stays in the grid.
    if (inside.current && document.activeElement === document.body) wantsFocus.current = true
  }, [listing.key])
  useLayoutEffect(() => {
    const element = scroller.current
    if (!wantsFocus.current || !element || edit) return
    if (document.querySelector('.modal.show')) {
      wantsFocus.current = false
      return
    }
    const cell = element.querySelector<HTMLElement>(`[data-row="${cursor.row}"] [data-col="${cursor.column}"]`)
    if (cell) {
      wantsFocus.current = false
      if (document.activeElement !== cell) cell.focus({ preventScroll: true })
    } else {
      element.focus({ preventScroll: true })
    }
  })

  useLayoutEffect(() => {
    const element = scroller.current
    if (!element || !overflows || cursor.column < 0) return
    const from = cursor.column * columnWidth
    const room = width - nameWidth
    if (from < element.scrollLeft) element.scrollLeft = from
    else if (from + columnWidth > element.scrollLeft + room) element.scrollLeft = from + columnWidth - room
  }, [cursor.column, overflows, columnWidth, width, nameWidth])

  const go = useCallback(
    (to: Position) => {
      // A cell that is drawn has the focus at once, before the two that change are drawn anew.
      const drawn = scroller.current?.querySelector<HTMLElement>(`[data-row="${to.row}"] [data-col="${to.column}"]`)
      drawn?.focus({ preventScroll: true })
      wantsFocus.current = !drawn
      setCursor(to)
      const offset = virtual.scrollOffset ?? 0
      const top = to.row * ROW
      // Scrolling reads the layout, which is dear in the middle of a key press: only where it is needed.
      if (top < offset || top + ROW + HEAD > offset + (virtual.scrollRect?.height ?? 0)) virtual.scrollToIndex(to.row)
    },
    [setCursor, virtual],
  )

  useEffect(() => {
    if (cursor.row >= 0) virtual.scrollToIndex(cursor.row)
    // Only where the rows themselves are others: a click or key scrolls by itself.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [listing.key, listing.madeOf])
  const items = places.seat(
    virtual.getVirtualItems().map((item) => ({ ...item, account: listing.at(item.index) })),
    ({ account, index }) => account?.code ?? `row ${index}`,
    virtual.isScrolling,
  )
  const shownFrom = virtual.range?.startIndex ?? 0
  const shownTo = Math.min(listing.count - 1, shownFrom + Math.ceil(height / ROW))
  // Along with the rows: an effect that comes later costs another task with every row.
  const tellShown = useRef(() => {})
  const [shown] = useState(() => new Rest(ASKED_AFTER, () => tellShown.current()))
  useLayoutEffect(() => {
    tellShown.current = () => onShown(shownFrom, shownTo, cursor.row)
    shown.moved()
  }, [shown, shownFrom, shownTo, cursor.row, onShown])
  useEffect(() => () => shown.stop(), [shown])

  const begin = (field: Edit['field'], text: string) => {
    if (cursor.column >= 0) setEdit({ field, text, wrong: false })
  }
  const finish = (to: Position) => {
    if (!edit) return
    if (props.commit(edit, between(cursor, cursor), cursor)) {
      setEdit(null)
      setAnchor(null)
      go(to)
    } else {
      setEdit({ ...edit, wrong: true })
    }
  }

  const onKeyDown = (event: React.KeyboardEvent) => {
    const extent = { rows: listing.count, columns: pools.length, page }
    if (edit) {
      if (event.key === 'Enter') {
        // Ctrl Enter is the review's, which comes after this.
        if (!event.ctrlKey && !event.metaKey) event.preventDefault()
        finish(cursor)
      } else if (event.key === 'Tab') {
        event.preventDefault()
        finish(move(cursor, event.shiftKey ? 'ArrowLeft' : 'ArrowRight', false, extent) ?? cursor)
      } else if (event.key === 'Escape') {
        event.preventDefault()
        setEdit(null)
        wantsFocus.current = true
      } else if (event.key.length === 1 && !(event.target instanceof HTMLInputElement)) {
        // The cell is not here yet, and what is typed is kept for it.
        event.preventDefault()
        setEdit({ ...edit, text: edit.text + event.key })
      }
      return
    }
    const ctrl = event.ctrlKey || event.metaKey
    const here = listing.at(cursor.row)
    const twists = props.toggles && here !== undefined && here.below > 0 && here.code !== listing.top
    if (cursor.column === -1 || (cursor.column === 0 && event.key === 'ArrowLeft')) {
      if (event.key === 'ArrowLeft' && cursor.column === -1) {
        event.preventDefault()
        if (twists && here.open) props.toggle(here.code, false)
        else if (here && here.above >= 0) go({ row: here.above, column: -1 })
        return
      }
      if (event.key === 'ArrowLeft') {
        event.preventDefault()
        go({ row: cursor.row, column: -1 })
        return
      }
      if (event.key === 'ArrowRight') {
        event.preventDefault()
        if (twists && !here.open) props.toggle(here.code, true)
        else go({ row: cursor.row, column: 0 })
        return
      }
    }
    if (event.key === 'Escape' && anchor) {
      event.preventDefault()
      setAnchor(null)
      return
    }
    const to = move(
      { row: cursor.row, column: Math.max(cursor.column, event.key === 'End' ? 0 : cursor.column) },
      event.key,
      ctrl,
      extent,
    )
    if (to) {
      event.preventDefault()
      setAnchor(event.shiftKey ? (anchor ?? cursor) : null)
      const stays = cursor.column === -1 && !['Home', 'End'].includes(event.key)
      go(stays ? { row: to.row, column: -1 } : to)
      return
    }
    if (event.key === ' ' && twists) {
      event.preventDefault()
      props.toggle(here.code, !here.open)
      return
    }
    if (ctrl && event.key === 'a') {
      event.preventDefault()
      setAnchor({ row: 0, column: 0 })
      go({ row: listing.count - 1, column: pools.length - 1 })
      return
    }
    if (ctrl && cursor.column >= 0 && (event.key === 'd' || event.key === 'r')) {
      event.preventDefault()
      props.fill(range, event.key === 'd' ? 'down' : 'right')
      return
    }
    if (ctrl || event.altKey || cursor.column < 0) {
      if (event.key === 'Enter' && twists && !ctrl) {
        event.preventDefault()
        props.toggle(here.code, !here.open)
      }
      return
    }
    if (/^[0-9+-]$/.test(event.key)) {
      event.preventDefault()
      begin('cap', event.key)
    } else if (event.key === 'Enter' || event.key === 'F2' || event.key === 'c') {
      event.preventDefault()
      begin('cap', '')
    } else if (event.key === 'r') {
      event.preventDefault()
      begin('reserve', '')
    } else if (event.key === 'Delete' || event.key === 'Backspace') {
      event.preventDefault()
      props.clear(range)
    }
  }

  const twist = (row: number) => {
    const account = listing.at(row)
    if (props.toggles && account?.below && account.code !== listing.top) props.toggle(account.code, !account.open)
  }
  const onClick = (event: React.MouseEvent) => {
    const target = event.target as HTMLElement
    const cell = target.closest<HTMLElement>('[data-col]')
    if (!cell || target.closest('input')) return
    const row = rowOf(cell)
    if (edit && !props.commit(edit, between(cursor, cursor), cursor)) {
      setEdit({ ...edit, wrong: true })
      return
    }
    setEdit(null)
    setAnchor(event.shiftKey ? (anchor ?? cursor) : null)
    wantsFocus.current = true
    if (target.matches('.tw')) twist(row)
    setCursor({ row, column: Number(cell.dataset.col) })
  }
  const onDoubleClick = (event: React.MouseEvent) => {
    const cell = (event.target as HTMLElement).closest<HTMLElement>('[data-col]')
    if (cell && Number(cell.dataset.col) >= 0) begin('cap', '')
    else if (cell) twist(rowOf(cell))
  }

  const onCopy = (event: React.ClipboardEvent) => {
    if (edit || cursor.column < 0) return
    event.preventDefault()
    const text = props.copied(range)
    if (text === null) props.copyAll(range)
    else event.clipboardData.setData('text/plain', text)
  }
  const onPaste = (event: React.ClipboardEvent) => {
    if (edit || cursor.column < 0) return
    event.preventDefault()
    props.paste(range, event.clipboardData.getData('text/plain'))
  }
  const chosen = anchor !== null && !isOne(range)
  return (
    // Keys and clicks are taken here for all cells, so that no cell needs handlers of its own.
    <div
      ref={scroller}
      className={overflows ? 'agrid overflows' : 'agrid'}
      role="treegrid"
      aria-label="Accounts against pools"
      aria-rowcount={listing.count + 1}
      aria-colcount={pools.length + 1}
      tabIndex={-1}
      onKeyDown={onKeyDown}
      onClick={onClick}
      onDoubleClick={onDoubleClick}
      onCopy={onCopy}
      onPaste={onPaste}
      onFocus={() => {
        inside.current = true
      }}
      onBlur={(event) => {
        if (event.relatedTarget !== null) inside.current = event.currentTarget.contains(event.relatedTarget)
      }}
      aria-multiselectable="true"
      style={{ '--name': `${nameWidth}px`, '--column': `${columnWidth}px` } as React.CSSProperties}
    >
      <div
        style={{
          width: nameWidth + columnWidth * pools.length,
          height: HEAD + virtual.getTotalSize(),
          position: 'relative',
        }}
        role="presentation"
      >
        <Head pools={pools} columnWidth={columnWidth} />
        <div style={{ position: 'relative' }} role="rowgroup">
          {items.map(({ item, place }) => {
            const { account } = item
            if (!account)
              return (
                <div
                  key={place}
                  role="row"
                  aria-rowindex={item.index + 2}
                  className="arow"
                  style={{ transform: `translateY(${item.start}px)` }}
                >
                  <div role="rowheader" className="aname quiet" aria-colindex={1}>
                    …
                  </div>
                </div>
              )
            const { code } = account
            const active = item.index === cursor.row ? cursor.column : null
            const inside = chosen && item.index >= range.from.row && item.index <= range.to.row
            return (
              <Row
                key={place}
                account={code}
                place={account.place}
                index={item.index}
                top={item.start}
                name={account.name}
                kind={account.kind}
                status={account.status}
                depth={account.depth}
                below={account.code === listing.top ? 0 : account.below}
                open={account.open}
                pools={account.pools}
                first={first}
                last={last}
                columnWidth={columnWidth}
                active={active}
                edit={active === null ? null : edit}
                effects={props.effects[code] ?? differingIn(account)}
                changed={props.changed[code] ?? ''}
                faults={props.faults[code]}
                from={inside ? range.from.column : -1}
                to={inside ? range.to.column : -1}
                onEdit={onEditText(setEdit)}
              />
            )
          })}
        </div>
      </div>
    </div>
  )
}

/** The row a cell stands in. */
const rowOf = (cell: HTMLElement) => Number(cell.closest<HTMLElement>('[data-row]')?.dataset.row)

/** Rows that only fly past are not asked for. */
const ASKED_AFTER = 40

/** Rows come and go two at a time, which halves what every coming costs besides the rows. */
const inLots = offsetInLots(2 * ROW)
const inWholeRows = heightInRows(ROW)

const editors = new WeakMap<object, (text: string) => void>()

/** The same function for the same setter, so that rows stay asleep. */
function onEditText(setEdit: React.Dispatch<React.SetStateAction<Edit | null>>): (text: string) => void {
  const known = editors.get(setEdit)
  if (known) return known
  const made = (text: string) => setEdit((edit) => (edit ? { ...edit, text, wrong: false } : edit))
  editors.set(setEdit, made)
  return made
}

const Head = memo(function Head({ pools, columnWidth }: { pools: Pool[]; columnWidth: number }) {
  return (
    <div className="ahead" role="row" aria-rowindex={1} style={{ height: HEAD }}>
      <div role="columnheader" className="aname" aria-colindex={1}>
        <b>Account</b>
        <GaugeKey />
      </div>
      {pools.map((pool, column) => (
        <div role="columnheader" key={pool.product} className="phead" aria-colindex={column + 2} title={pool.name}>
          <b className="pname">{pool.name}</b>
          <span className="t">
            <span>
              {roundUnits(pool.held, pool.per_unit)}
              {pool.supply !== null && `/${roundUnits(pool.supply, pool.per_unit)}`}
            </span>
            {pool.free !== null && (
              <b className={pool.free < 0 ? 'over' : undefined}>
                {pool.free < 0
                  ? `${roundUnits(-pool.free, pool.per_unit)} over`
                  : `${roundUnits(pool.free, pool.per_unit)} ${pool.owned ? 'free' : 'to cap'}`}
              </b>
            )}
          </span>
          <Gauge
            width={columnWidth - 16}
            amounts={{ used: pool.used, held: pool.held, reserve: 0, limit: pool.supply, reachable: pool.held }}
          />
          <span className="t small">
            <span className="quiet">{unitName(pool.unit, 2)}</span>
            {pool.ending && (
              <b className="near">
                {roundUnits(pool.ending.quantity, pool.per_unit)} end {shortDay(pool.ending.day)}
              </b>
            )}
          </span>
        </div>
      ))}
    </div>
  )
})
