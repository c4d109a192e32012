import { useVirtualizer } from '@tanstack/react-virtual'
import { useEffect, useId, useRef } from 'react'
import { useEntry, useKept } from './useKept'
import type { Column, Sorting } from './VirtualTable'

/** A list of any length of which only what is on screen is there, to be walked, marked and opened by keys. */
export function PagedGrid<T>({
  total,
  rowAt,
  onShown,
  columns,
  rowKey,
  label,
  sorting,
  onSort,
  startsDown = false,
  isMarked = () => false,
  mark = () => undefined,
  markAll,
  open,
  comesHere = false,
  foot,
  rowHeight = 32,
}: {
  total: number
  /** The row at a place; undefined while it is not fetched yet. */
  rowAt: (place: number) => T | undefined
  onShown: (first: number, last: number) => void
  columns: Column<T>[]
  rowKey: (row: T) => string
  label: string
  sorting?: Sorting
  onSort?: (sorting: Sorting) => void
  /** Whether figures are sorted the largest first. */
  startsDown?: boolean
  /** Where rows can be marked: whether one is, marking or unmarking those from one place to another, and all. */
  isMarked?: (row: T) => boolean
  mark?: (from: number, to: number, marked: boolean) => void
  markAll?: (marked: boolean) => void
  open: (row: T) => void
  /** Whoever comes for what is listed has the list under their keys once it is there. */
  comesHere?: boolean
  /** What stands in a last line under each column, by its key. */
  foot?: Record<string, React.ReactNode>
  rowHeight?: number
}) {
  const marks = markAll !== undefined
  const scroller = useRef<HTMLDivElement>(null)
  const id = useId()
  const [cursor, setCursor] = useKept(`cursor ${label}`, () => 0)
  const place = useEntry<number>(`place ${label}`)
  const anchor = useRef(0)
  const virtual = useVirtualizer({
    count: total,
    getScrollElement: () => scroller.current,
    estimateSize: () => rowHeight,
    overscan: 8,
    initialOffset: place.read() ?? 0,
  })
  const waits = useRef(comesHere)
  useEffect(() => {
    if (!waits.current || total === 0) return
    waits.current = false
    if (document.activeElement?.matches('body, h1')) scroller.current?.focus({ preventScroll: true })
  }, [total])
  const items = virtual.getVirtualItems()
  const [first, last] = [items[0]?.index ?? 0, items.at(-1)?.index ?? 0]
  useEffect(() => onShown(first, last), [onShown, first, last])
  const isMarkedAt = (place: number) => {
    const row = rowAt(place)
    return row !== undefined && marks && isMarked(row)
  }
  const at = Math.min(cursor, Math.max(0, total - 1))
  const tracks = { gridTemplateColumns: `${marks ? '34px ' : ''}${columns.map((column) => column.width).join(' ')}` }
  const width = {
    minWidth: 60 + columns.reduce((sum, column) => sum + Number(/(\d+)px/.exec(column.width)?.[1] ?? 120), 0),
  }
  const go = (to: number, extend: boolean) => {
    const place = Math.max(0, Math.min(total - 1, to))
    setCursor(place)
    if (extend && marks) mark(Math.min(anchor.current, place), Math.max(anchor.current, place), true)
    else anchor.current = place
    virtual.scrollToIndex(place)
  }
  const onKey = (event: React.KeyboardEvent) => {
    if (event.target !== event.currentTarget || total === 0) return
    const page = Math.max(1, Math.floor((scroller.current?.clientHeight ?? 300) / rowHeight) - 2)
    const moves: Record<string, number> = {
      ArrowDown: at + 1,
      ArrowUp: at - 1,
      PageDown: at + page,
      PageUp: at - page,
      Home: 0,
      End: total - 1,
    }
    const row = rowAt(at)
    if (event.key in moves) go(moves[event.key] ?? at, event.shiftKey)
    else if (event.key === ' ' && row !== undefined && marks) {
      anchor.current = at
      mark(at, at, !isMarked(row))
    } else if (event.key === 'Enter' && !event.ctrlKey && !event.metaKey && row !== undefined) open(row)
    else if (event.key === 'a' && (event.ctrlKey || event.metaKey)) markAll?.(true)
    else if (event.key === 'Escape') markAll?.(false)
    else return
    event.preventDefault()
    event.stopPropagation()
  }
  return (
    <div
      className="vtable pgrid"
      ref={scroller}
      role="grid"
      aria-label={label}
      aria-rowcount={total + 1}
      aria-multiselectable={marks}
      tabIndex={0}
      aria-activedescendant={total && rowAt(at) ? `${id}-${at}` : undefined}
      onKeyDown={onKey}
      onScroll={(event) => place.write(event.currentTarget.scrollTop)}
    >
      <div role="rowgroup" className="vhead" style={width}>
        <div role="row" className="vrow" style={{ ...tracks, minWidth: 0 }} aria-rowindex={1}>
          {marks && (
            <div role="columnheader" className="tomark">
              <input
                type="checkbox"
                className="form-check-input"
                tabIndex={-1}
                disabled={total === 0}
                checked={total > 0 && items.every((item) => isMarkedAt(item.index))}
                aria-label="Choose all"
                onChange={(event) => markAll(event.target.checked)}
              />
            </div>
          )}
          {columns.map((column) => (
            <div
              role="columnheader"
              key={column.key}
              className={column.fig ? 'fig' : undefined}
              aria-sort={sorting?.key === column.key ? (sorting.down ? 'descending' : 'ascending') : undefined}
            >
              {column.sort ? (
                <button
                  type="button"
                  onClick={() =>
                    onSort?.({
                      key: column.key,
                      down: sorting?.key === column.key ? !sorting.down : startsDown && column.fig === true,
                    })
                  }
                >
                  {column.title}
                  {sorting?.key === column.key && <span className="arrow">{sorting.down ? ' ↓' : ' ↑'}</span>}
                </button>
              ) : (
                column.title
              )}
            </div>
          ))}
        </div>
      </div>
      <div role="rowgroup" style={{ ...width, height: virtual.getTotalSize(), position: 'relative' }}>
        {items.map((item) => {
          const row = rowAt(item.index)
          const marked = isMarkedAt(item.index)
          return (
            <div
              role="row"
              id={`${id}-${item.index}`}
              key={row === undefined ? item.index : rowKey(row)}
              aria-rowindex={item.index + 2}
              aria-selected={marks ? marked : undefined}
              className={`vrow${marked ? ' marked' : ''}${item.index === at ? ' at' : ''}`}
              style={{
                ...tracks,
                minWidth: 0,
                height: rowHeight,
                minHeight: 0,
                position: 'absolute',
                top: 0,
                left: 0,
                right: 0,
                transform: `translateY(${item.start}px)`,
              }}
              onMouseDown={() => {
                setCursor(item.index)
              }}
            >
              {row === undefined ? (
                <div role="gridcell" className="quiet" style={{ gridColumn: '1 / -1' }}>
                  …
                </div>
              ) : (
                <>
                  {marks && (
                    <div role="gridcell" className="tomark">
                      <input
                        type="checkbox"
                        className="form-check-input"
                        tabIndex={-1}
                        checked={marked}
                        aria-label={`Choose ${rowKey(row)}`}
                        onChange={(event) => {
                          const shift = event.nativeEvent instanceof MouseEvent && event.nativeEvent.shiftKey
                          mark(
                            shift ? Math.min(anchor.current, item.index) : item.index,
                            shift ? Math.max(anchor.current, item.index) : item.index,
                            !marked,
                          )
                          anchor.current = item.index
                        }}
                      />
                    </div>
                  )}
                  {columns.map((column) => (
                    <div role="gridcell" key={column.key} className={column.fig ? 'fig' : undefined}>
                      {column.cell(row)}
                    </div>
                  ))}
                </>
              )}
            </div>
          )
        })}
      </div>
      {foot && (
        <div role="rowgroup" className="vfoot" style={width}>
          <div role="row" className="vrow" style={{ ...tracks, minWidth: 0 }}>
            {columns.map((column) => (
              <div role="gridcell" key={column.key} className={column.fig ? 'fig' : undefined}>
                {foot[column.key]}
              </div>
            ))}
          </div>
        </div>
      )}
    </div>
  )
}
