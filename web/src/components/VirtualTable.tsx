import { useVirtualizer } from '@tanstack/react-virtual'
import { useEffect, useRef, useState } from 'react'
import { flushSync } from 'react-dom'

export interface Column<T> {
  key: string
  title: string
  /** A CSS grid track, like `1fr` or `120px`. */
  width: string
  fig?: boolean
  cell: (row: T) => React.ReactNode
  /** Sorting by it is offered where this is given. */
  sort?: boolean
}

export interface Sorting {
  key: string
  down: boolean
}

/** A long table of which only the rows on screen are there. Rows are of one height. */
export function VirtualTable<T>({
  rows,
  columns,
  rowKey,
  label,
  rowHeight = 35,
  foot,
  rowClass,
  wide,
  onShown,
}: {
  /** A row is undefined while it is not fetched yet. */
  rows: (T | undefined)[]
  columns: Column<T>[]
  rowKey: (row: T) => string | number
  label: string
  rowHeight?: number
  foot?: React.ReactNode
  rowClass?: (row: T) => string | undefined
  /** The least width of a row, where there are many columns: the first stays in sight then. */
  wide?: number
  /** Told which rows are on screen, where they are fetched as they come into sight. */
  onShown?: (first: number, last: number) => void
}) {
  const scroller = useRef<HTMLDivElement>(null)
  const virtual = useVirtualizer({
    count: rows.length,
    getScrollElement: () => scroller.current,
    estimateSize: () => rowHeight,
    overscan: 6,
  })
  const drawn = virtual.getVirtualItems()
  const [first, last] = [drawn[0]?.index ?? 0, drawn.at(-1)?.index ?? 0]
  useEffect(() => onShown?.(first, last), [onShown, first, last])
  const printing = usePrinting()
  const items = printing ? rows.map((_, index) => ({ index, start: index * rowHeight })) : drawn
  const tracks = {
    gridTemplateColumns: columns.map((column) => column.width).join(' '),
    ...(wide !== undefined && { minWidth: wide }),
  }
  return (
    // Scrolled by the keyboard too, so it can be focused.
    <div
      className={wide === undefined ? 'vtable' : 'vtable keepsfirst'}
      ref={scroller}
      role="table"
      aria-label={label}
      aria-rowcount={rows.length + 1}
      tabIndex={0}
    >
      <div role="rowgroup" className="vhead" style={{ minWidth: wide }}>
        <div role="row" className="vrow" style={tracks} aria-rowindex={1}>
          {columns.map((column) => (
            <div role="columnheader" key={column.key} className={column.fig ? 'fig' : undefined}>
              {column.title}
            </div>
          ))}
        </div>
      </div>
      <div role="rowgroup" style={{ height: virtual.getTotalSize(), position: 'relative' }}>
        {items.map((item) => {
          const row = rows[item.index]
          return (
            <div
              role="row"
              key={row === undefined ? `place ${item.index}` : rowKey(row)}
              aria-rowindex={item.index + 2}
              className={`vrow ${(row && rowClass?.(row)) ?? ''}`}
              style={{
                ...tracks,
                height: rowHeight,
                position: 'absolute',
                top: 0,
                left: 0,
                right: 0,
                transform: `translateY(${item.start}px)`,
              }}
            >
              {row === undefined ? (
                <div role="cell" className="quiet">
                  …
                </div>
              ) : (
                columns.map((column) => (
                  <div role="cell" key={column.key} className={column.fig ? 'fig' : undefined}>
                    {column.cell(row)}
                  </div>
                ))
              )}
            </div>
          )
        })}
      </div>
      {foot && (
        <div role="rowgroup" className="vfoot">
          <div role="row" className="vrow" style={tracks}>
            {foot}
          </div>
        </div>
      )}
    </div>
  )
}

/** Whether the page is being printed: then all rows are there. */
function usePrinting(): boolean {
  const [printing, setPrinting] = useState(false)
  useEffect(() => {
    const begin = () => flushSync(() => setPrinting(true))
    const end = () => setPrinting(false)
    window.addEventListener('beforeprint', begin)
    window.addEventListener('afterprint', end)
    return () => {
      window.removeEventListener('beforeprint', begin)
      window.removeEventListener('afterprint', end)
    }
  }, [])
  return printing
}
