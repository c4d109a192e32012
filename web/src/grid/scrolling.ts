import { observeElementRect, type observeElementOffset } from '@tanstack/react-virtual'

/** Tells when nothing has moved for a while: one timer for a whole movement, and not one with every frame. */
export class Rest {
  private since = 0
  private timer = 0

  constructor(
    private readonly after: number,
    private readonly tell: () => void,
  ) {}

  moved(): void {
    this.since = performance.now()
    this.timer ||= window.setTimeout(this.look, this.after)
  }

  stop(): void {
    clearTimeout(this.timer)
    this.timer = 0
  }

  private look = () => {
    const left = this.since + this.after - performance.now()
    this.timer = left > 0 ? window.setTimeout(this.look, left) : 0
    if (!this.timer) this.tell()
  }
}

const RESTS_AFTER = 150

/** Where it is scrolled to, and whether it still moves; while it moves, told in steps of so many pixels. */
export function offsetInLots(lot: number): typeof observeElementOffset {
  return (virtual, tell) => {
    const element = virtual.scrollElement
    if (!element) return
    const rest = new Rest(RESTS_AFTER, () => tell(element.scrollTop, false))
    const scrolled = () => {
      rest.moved()
      tell(Math.floor(element.scrollTop / lot) * lot, true)
      virtual.scrollOffset = element.scrollTop
    }
    element.addEventListener('scroll', scrolled, { passive: true })
    return () => {
      rest.stop()
      element.removeEventListener('scroll', scrolled)
    }
  }
}

/** The height in whole rows and a point: so the last row comes at the offset at which the first one goes. */
export function heightInRows(row: number): typeof observeElementRect {
  return (virtual, tell) =>
    observeElementRect(virtual, ({ width, height }) => tell({ width, height: Math.floor(height / row) * row + 1 }))
}
