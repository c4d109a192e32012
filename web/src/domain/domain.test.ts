import { describe, expect, it } from 'vitest'
import { bySlot, difference, emptyDraft, reduce, slotOf, withDifference, type Change } from './draft'
import { minus, money, percent, sum } from './money'
import { dayIn, dayName, dayOf, daysBetween, instantName, monthAfter, reckonIn } from './months'
import { decimal, parseUnits, units } from './units'

const t = '\u00a0'

describe('quantities and money as people read them', () => {
  it.each([
    [1234567, 1, `1${t}234${t}567`],
    [9512293, 1000, `9${t}512.293`],
    [-21639, 1000, '−21.639'],
    [50000, 1000, '50'],
  ])('%d grains at %d a unit', (grains, per, text) => expect(units(grains, per)).toBe(text))

  it.each([
    ['12', 1, 12],
    ['12.5', 1, null],
    ['1 619', 1000, 1619000],
    ['0.5', 1000, 500],
    ['-3', 1, null],
    ['many', 1, null],
    ['1e5', 1, null],
    ['1.0001', 1000, null],
  ])('%s typed', (text, per, grains) => expect(parseUnits(text, per)).toBe(grains))

  it('rounds decimals half up without binary floating point', () => {
    expect(decimal('1172.515000', 2)).toBe(`1${t}172.52`)
    expect(decimal('0.005', 2)).toBe('0.01')
    expect(decimal('-0.001', 2)).toBe('0.00')
  })

  it('adds money exactly', () => {
    expect(sum(['0.10', '0.20', '412.60'])).toBe('412.90')
    expect(minus('10.00', '10.05')).toBe('-0.05')
    expect(money('9184.2')).toBe(`9${t}184.20`)
    expect(percent('31.4', '100')).toBe(`31.4${t}%`)
    expect(percent('1', '0')).toBe('–')
  })

  it('says the day and hour of an instant where days are reckoned, not of its text', () => {
    reckonIn('Europe/Lisbon')
    expect(dayOf('2026-10-31T23:30:00+00:00')).toBe('2026-10-31')
    reckonIn('Europe/Berlin')
    expect(dayOf('2026-10-31T23:30:00+00:00')).toBe('2026-11-01')
    expect(instantName('2026-06-30T22:05:00+00:00')).toBe('1 Jul 2026, 00:05')
    expect(dayOf('2026-10-31')).toBe('2026-10-31')
  })
  it.each([
    ['31 Oct', 'last', '2026-10-31'],
    ['31 Dec', 'last', '2025-12-31'],
    ['1 sept', 'next', '2027-09-01'],
    ['24 november', 'next', '2026-11-24'],
    ['31 Oct 2025', 'next', '2025-10-31'],
    ['2026-02-29', 'next', null],
    ['31 June', 'next', null],
    ['soon', 'next', null],
  ] as const)('%s is the %s such day: %s', (words, means, day) => expect(dayIn(words, '2026-11-24', means)).toBe(day))

  it('writes every month in three letters', () => expect(dayName('2026-09-01')).toBe('1 Sep 2026'))

  it('counts months and days over the year', () => {
    expect(monthAfter('2026-12', 1)).toBe('2027-01')
    expect(monthAfter('2026-01', -1)).toBe('2025-12')
    expect(daysBetween('2026-11-24', '2026-12-31')).toBe(37)
  })
})

describe('a draft', () => {
  const was = { reserve: 14, cap: 14, at_cap: 'grace' as const, burst: null, grace_days: 7, per: null, each: null }
  const change: Change = {
    kind: 'allocation',
    account: 'YARD',
    product: 'WATCH',
    terms: { ...was, cap: 18 },
    seen: 3,
    was,
  }
  it('drops a change back to what was, and can be undone and redone', () => {
    const one = reduce(emptyDraft, { do: 'set', changes: [change] })
    expect(Object.values(one.changes)).toEqual([change])
    const back = reduce(one, { do: 'set', changes: [{ ...change, terms: was }] })
    expect(back.changes).toEqual({})
    expect(reduce(back, { do: 'undo' }).changes).toEqual(one.changes)
    expect(reduce(reduce(back, { do: 'undo' }), { do: 'redo' }).changes).toEqual({})
  })
  it('says what leads from one state to another, and lays that over a third', () => {
    const move: Change = { kind: 'move', account: 'YARD', parent: 'DOCK', was: 'QUAY' }
    const from = bySlot([change])
    const found = difference(from, bySlot([move]))
    expect(found).toEqual({ put: [move], forget: [slotOf(change)] })
    const theirs: Change = { ...change, product: 'OTHER' }
    expect(Object.values(withDifference(bySlot([change, theirs]), found))).toEqual([theirs, move])
  })
})
