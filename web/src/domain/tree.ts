/** The accounts of a branch in tree order, and which of them a tree shows. */

export interface Accounts {
  code: string[]
  name: string[]
  kind: string[]
  status: string[]
  parent: number[]
}

/** Whether an account is closed: it and its branch are shown only where one asks for closed ones. */
export function isClosed(accounts: Accounts, place: number): boolean {
  return accounts.status[place] === 'closed'
}

/** How far each account is below the top. */
export function depths(parent: number[]): number[] {
  const found: number[] = []
  for (const above of parent) found.push(above < 0 ? 0 : (found[above] ?? 0) + 1)
  return found
}

/** For each account how many others are below it. */
export function sizesBelow(parent: number[]): number[] {
  const below = parent.map(() => 0)
  for (let place = parent.length - 1; place > 0; place--) {
    const above = parent[place] ?? -1
    if (above >= 0) below[above] = (below[above] ?? 0) + (below[place] ?? 0) + 1
  }
  return below
}

/** The places to show: all whose way up is open; with `wanted`, just those and what stands above them. */
export function visiblePlaces(
  parent: number[],
  isOpen: (place: number) => boolean,
  wanted?: (place: number) => boolean,
): number[] {
  if (wanted) {
    const keep = new Uint8Array(parent.length)
    for (let place = 0; place < parent.length; place++) {
      if (!wanted(place)) continue
      for (let at = place; at >= 0 && !keep[at]; at = parent[at] ?? -1) keep[at] = 1
    }
    return [...keep.keys()].filter((place) => keep[place])
  }
  const shown: number[] = []
  const open = new Uint8Array(parent.length)
  for (let place = 0; place < parent.length; place++) {
    const above = parent[place] ?? -1
    if (above >= 0 && !open[above]) continue
    shown.push(place)
    open[place] = isOpen(place) ? 1 : 0
  }
  return shown
}
