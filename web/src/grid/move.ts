/** Moving through a grid by keys, as a pure function. */

export interface Position {
  row: number
  column: number
}

export interface Extent {
  rows: number
  columns: number
  /** Rows a page has. */
  page: number
}

/** Where a key leads, or null where it is no key that moves. Ctrl goes to the edge. */
export function move(from: Position, key: string, ctrl: boolean, extent: Extent): Position | null {
  const row = (value: number) => Math.max(0, Math.min(extent.rows - 1, value))
  const column = (value: number) => Math.max(0, Math.min(extent.columns - 1, value))
  switch (key) {
    case 'ArrowDown':
      return { row: ctrl ? extent.rows - 1 : row(from.row + 1), column: from.column }
    case 'ArrowUp':
      return { row: ctrl ? 0 : row(from.row - 1), column: from.column }
    case 'ArrowRight':
      return { row: from.row, column: ctrl ? extent.columns - 1 : column(from.column + 1) }
    case 'ArrowLeft':
      return { row: from.row, column: ctrl ? 0 : column(from.column - 1) }
    case 'PageDown':
      return { row: row(from.row + extent.page), column: from.column }
    case 'PageUp':
      return { row: row(from.row - extent.page), column: from.column }
    case 'Home':
      return { row: ctrl ? 0 : from.row, column: 0 }
    case 'End':
      return { row: ctrl ? extent.rows - 1 : from.row, column: extent.columns - 1 }
    default:
      return null
  }
}
