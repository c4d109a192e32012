/** A block of cells, corners in order. */

import type { Position } from './move'

export interface Range {
  from: Position
  to: Position
}

/** The block between two cells, whichever was chosen first. The name column counts as the first. */
export function between(one: Position, other: Position): Range {
  const column = (position: Position) => Math.max(0, position.column)
  return {
    from: { row: Math.min(one.row, other.row), column: Math.min(column(one), column(other)) },
    to: { row: Math.max(one.row, other.row), column: Math.max(column(one), column(other)) },
  }
}

/** Every cell of a block, row by row. */
export function span({ from, to }: Range): Position[] {
  const cells: Position[] = []
  for (let row = from.row; row <= to.row; row++)
    for (let column = from.column; column <= to.column; column++) cells.push({ row, column })
  return cells
}

export function isOne({ from, to }: Range): boolean {
  return from.row === to.row && from.column === to.column
}
