import { expect, test } from 'vitest'
import { Places } from './places'

const drawn = (places: Places, rows: string, isMoving: boolean) =>
  places
    .seat([...rows], (row) => row, isMoving)
    .map(({ item, place }) => `${item}${place}`)
    .join(' ')

test('a row that comes takes over the place of one that went', () => {
  const places = new Places()
  expect(drawn(places, 'abcd', false)).toBe('a0 b1 c2 d3')
  expect(drawn(places, 'bcde', true)).toBe('e0 b1 c2 d3')
  expect(drawn(places, 'cdefg', true)).toBe('e0 f1 c2 d3 g4')
  expect(drawn(places, 'cdefg', false)).toBe('c2 d3 e0 f1 g4')
  expect(drawn(places, 'bcde', true)).toBe('c2 d3 e0 b1')
  expect(drawn(places, 'xy', false)).toBe('x2 y3')
})
