import { describe, expect, it } from 'vitest'
import { allOpen, isOpen, noneOpen, read, withOpen, written } from './branches'

describe('branches', () => {
  it('opens and shuts, whichever way they are kept', () => {
    const some = withOpen(noneOpen, ['TERN', 'WREN'], true)
    expect([isOpen(some, 'TERN'), isOpen(some, 'LARK')]).toEqual([true, false])
    expect(isOpen(withOpen(some, ['TERN'], false), 'TERN')).toBe(false)
    const most = withOpen(allOpen, ['TERN'], false)
    expect([isOpen(most, 'TERN'), isOpen(most, 'LARK')]).toEqual([false, true])
    expect(withOpen(most, ['TERN'], false)).toBe(most)
  })
  it('stands in an address and comes back', () => {
    for (const each of [noneOpen, allOpen, withOpen(allOpen, ['TERN'], false), withOpen(noneOpen, ['A', 'B'], true)])
      expect(read(written(each))).toEqual(each)
  })
})
