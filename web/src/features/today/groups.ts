import type { Today } from '../../api/queries'
import { daysBetween } from '../../domain/months'

export type Pressed = Today['pressed'][number]

const FOLDED_AFTER = 3
const SOON = 14

interface OfClient {
  client: string
  client_name: string
}

export interface Group<Item = Pressed> {
  client: string
  name: string
  items: Item[]
}

/** Items by client, the clients in the order of what presses most. */
export function byClient<Item extends OfClient>(items: Item[]): Group<Item>[] {
  const groups = new Map<string, Group<Item>>()
  for (const each of items) {
    const group = groups.get(each.client) ?? { client: each.client, name: each.client_name, items: [] }
    group.items.push(each)
    groups.set(each.client, group)
  }
  return [...groups.values()]
}

/** Whether a line is never folded away: nothing more can be assigned, or its deadline is within two weeks. */
function staysOpen(item: Pressed, day: string): boolean {
  return (
    item.state === 'restricted' ||
    (item.state !== 'near' && item.hard) ||
    (item.deadline !== null && daysBetween(day, item.deadline) <= SOON)
  )
}

/** What of a group is shown before it is opened. */
export function firstOf(items: Pressed[], day: string): Pressed[] {
  const urgent = items.filter((each) => staysOpen(each, day))
  return items.filter((each, place) => urgent.includes(each) || (urgent.length < FOLDED_AFTER && place < FOLDED_AFTER))
}
