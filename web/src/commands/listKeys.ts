import type { Command } from './registry'

/** Keys the list hears itself. */
export const LIST_KEYS: Command[] = (
  [
    ['Space', 'Choose a row'],
    ['Shift Arrow', 'Choose several rows'],
    ['Ctrl A', 'Choose all'],
    ['Enter', 'Open the row'],
    ['Escape', 'Clear the selection'],
  ] as const
).map(([keys, name]) => ({ id: `list ${keys}`, name, keys, group: 'In the list' }))
