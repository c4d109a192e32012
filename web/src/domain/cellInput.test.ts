import { describe, expect, it } from 'vitest'
import { nothing } from './draft'
import { parseBlock, typedTerms, typedValue } from './cellInput'

describe('typing into a cell', () => {
  it.each([
    ['60', 50, 1, 60],
    ['+5', 50, 1, 55],
    ['-10%', 50, 1, 45],
    ['-10 %', 55, 1, 49],
    ['−5', 50, 1, 45],
    ['none', 50, 1, null],
    ['-60', 50, 1, undefined],
    ['+5', null, 1, undefined],
    ['2.5', 0, 1, undefined],
    ['2.5', 0, 1000, 2500],
    ['+0.5', 2000, 1000, 2500],
    ['1 000', 0, 1, 1000],
    ['lots', 5, 1, undefined],
    ['', 5, 1, undefined],
    ['1000000000000', 5, 1, undefined],
    ['+12.5%', 8, 1, 9],
  ])('%s on %s at %d a unit', (text, present, per, value) => expect(typedValue(text, 'cap', present, per)).toBe(value))

  it('takes a pair for reserve and cap, and a reserve is never none', () => {
    expect(typedTerms('20/60', 'cap', nothing, 1)).toEqual({ ...nothing, reserve: 20, cap: 60 })
    expect(typedTerms('20/none', 'cap', nothing, 1)).toEqual({ ...nothing, reserve: 20 })
    expect(typedTerms('none', 'reserve', { ...nothing, reserve: 4 }, 1)).toEqual(nothing)
    expect(typedTerms('a/60', 'cap', nothing, 1)).toBeUndefined()
  })

  it('lets a cap follow seats until another one is typed whole', () => {
    const following = { ...nothing, cap: 10, per: 'SEAT', each: 5 }
    expect(typedTerms('+2', 'cap', following, 1)).toEqual({ ...following, cap: 12 })
    expect(typedTerms('3', 'reserve', following, 1)).toEqual({ ...following, reserve: 3 })
    expect(typedTerms('60', 'cap', following, 1)).toEqual({ ...nothing, cap: 60 })
  })

  it('reads a block as spreadsheets copy it', () => {
    expect(parseBlock('1\t2\r\n3\t4\r\n')).toEqual([
      ['1', '2'],
      ['3', '4'],
    ])
    expect(parseBlock('7')).toEqual([['7']])
  })
})
