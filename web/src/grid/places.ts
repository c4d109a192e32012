/** A row that is drawn, and the place in the page it is drawn in. */
export interface Placed<Item> {
  item: Item
  place: number
}

/**
 * The places rows are drawn in. A row that comes takes over the place of one that went, so that what is drawn there is
 * changed and not made anew; a row that stays keeps its place, and the focus in it. Places stand in the page in the order
 * of their rows, except while those are moving: then none is moved about.
 */
export class Places {
  private ofKey = new Map<string, number>()
  private order: number[] = []

  /** Where these rows are drawn, in the order of the page. */
  seat<Item>(items: readonly Item[], keyOf: (item: Item) => string, isMoving: boolean): Placed<Item>[] {
    const keys = items.map(keyOf)
    const kept = new Set(keys.map((key) => this.ofKey.get(key)))
    const free = this.order.filter((place) => !kept.has(place))
    let next = Math.max(-1, ...this.order) + 1
    const places = keys.map((key) => this.ofKey.get(key) ?? free.shift() ?? next++)
    const taken = new Map(places.map((place, at) => [place, items[at] as Item]))
    this.ofKey = new Map(places.map((place, at) => [keys[at] as string, place]))
    const standing = isMoving ? this.order.filter((place) => taken.has(place)) : []
    const stands = new Set(standing)
    this.order = [...standing, ...places.filter((place) => !stands.has(place))]
    return this.order.map((place) => ({ item: taken.get(place) as Item, place }))
  }
}
