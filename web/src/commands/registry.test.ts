import { expect, it, vi } from 'vitest'
import { Registry, written } from './registry'

it('refuses two commands with the same keys, and forgets those that leave', () => {
  const registry = new Registry()
  const leave = registry.add([{ id: 'a', name: 'Allocations', keys: 'g a', group: 'Go', run: vi.fn() }])
  expect(() => registry.add([{ id: 'b', name: 'Other', keys: 'g a', group: 'Go', run: vi.fn() }])).toThrow(
    'g a is taken by Allocations',
  )
  expect(registry.startsWith('g')).toBe(true)
  leave()
  expect(registry.all()).toEqual([])
})

it('writes keys as people do', () => {
  expect(written({ key: 'z', ctrlKey: true, metaKey: false })).toBe('Ctrl Z')
  expect(written({ key: '?', ctrlKey: false, metaKey: false })).toBe('?')
})
