import { expect, it } from 'vitest'
import { move } from './move'

const extent = { rows: 100, columns: 6, page: 20 }
it.each([
  ['ArrowDown', false, 5, 2, 6, 2],
  ['ArrowDown', false, 99, 2, 99, 2],
  ['ArrowUp', true, 50, 2, 0, 2],
  ['PageDown', false, 90, 0, 99, 0],
  ['PageUp', false, 10, 3, 0, 3],
  ['Home', false, 5, 4, 5, 0],
  ['Home', true, 5, 4, 0, 0],
  ['End', true, 5, 1, 99, 5],
  ['ArrowLeft', false, 5, 0, 5, 0],
])('%s (ctrl %s) from row %d, column %d', (key, ctrl, row, column, toRow, toColumn) => {
  expect(move({ row, column }, key, ctrl, extent)).toEqual({ row: toRow, column: toColumn })
})
it('leaves other keys alone', () => expect(move({ row: 0, column: 0 }, 'a', false, extent)).toBeNull())
