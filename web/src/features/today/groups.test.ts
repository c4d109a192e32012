import { expect, it } from 'vitest'
import { byClient, firstOf, type Pressed } from './groups'

const DAY = '2026-11-24'
const item = (account: string, more: Partial<Pressed>): Pressed =>
  ({
    account,
    client: account.split('-')[0] ?? '',
    client_name: account,
    state: 'over',
    hard: false,
    deadline: null,
    ...more,
  }) as Pressed

it('folds away no hard breach and no deadline within 14 days', () => {
  const states: Partial<Pressed>[] = [
    { state: 'over', hard: true },
    { state: 'restricted', deadline: '2026-10-01' },
    { state: 'grace', deadline: '2026-12-08' },
  ]
  const soft = Array.from({ length: 9 }, (_, n) => item(`A-${n}`, { state: n % 2 ? 'near' : 'over' }))
  const hard = Array.from({ length: 9 }, (_, n) => item(`A-H${n}`, states[n % 3] ?? {}))
  const late = item('A-LATE', { state: 'grace', deadline: '2026-12-09' })
  const shown = firstOf([...soft, late, ...hard], DAY)
  expect(shown).toEqual(hard)
  expect(firstOf([...soft, late], DAY)).toHaveLength(3)
})

it('groups by client in the order of what presses most', () => {
  const groups = byClient([item('B-1', {}), item('A-1', {}), item('B-2', {})])
  expect(groups.map((each) => [each.client, each.items.length])).toEqual([
    ['B', 2],
    ['A', 1],
  ])
})
