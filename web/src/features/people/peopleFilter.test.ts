import { describe, expect, it } from 'vitest'
import { given, inWords, readFilter, readBack, written } from './peopleFilter'

describe('the people list in an address', () => {
  it('says what is asked for, and in words', () => {
    const asked = readFilter(
      new URLSearchParams('find=ada&status=invited&seen=60&protected=no&account=TERN&status=invited'),
    )
    expect(given(asked)).toEqual({ find: 'ada', account: 'TERN', status: 'invited', seen: '60', protected: 'false' })
    expect(inWords(asked, { account: () => 'Tern', product: (code) => code }).map((each) => each.says)).toEqual([
      'of Tern',
      'invited',
      'not seen for 60 days',
      'not protected',
    ])
    expect(readFilter(new URLSearchParams('status=gone')).status).toBeNull()
  })
})

describe('a rule built of conditions', () => {
  it.each([
    ['title eq "Manager" or title eq "Director"', 'or', 2],
    ['active eq true and department co "Night \\"A\\""', 'and', 2],
    ['lastSeenAt lt "2026-01-01T00:00:00Z"', 'and', 1],
    ['title pr', 'and', 1],
    ['', 'and', 0],
  ])('%s comes back as it was written', (text, join, count) => {
    const found = readBack(text)
    expect([found?.join, found?.conditions.length]).toEqual([join, count])
    expect(written(found?.conditions ?? [], found?.join ?? 'and')).toBe(text)
  })
  it.each([
    'active eq true and not (displayName co "Room")',
    'title eq "a" and title eq "b" or title eq "c"',
    'shoes eq "9"',
    'title eq',
    'lastSeenAt gt "2026-01-01T00:00:00Z"',
  ])('%s is left to be written', (text) => {
    expect(readBack(text)).toBeNull()
  })
})
