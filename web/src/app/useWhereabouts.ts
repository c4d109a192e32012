import { useEffect, useRef } from 'react'
import { useLocation } from 'react-router'

const CAN_TAKE_FOCUS = 'a[href], button:not(:disabled), input:not(:disabled), select:not(:disabled), [tabindex]'
/** So long a screen may take until its heading is there. */
const PATIENCE = 8000
/** How often, and after how many milliseconds, a button at work is looked after. */
const [TRIES, AT_WORK] = [20, 100]

/** Keeps the page's title by the screen's heading, and lets the focus follow whoever goes to another screen. */
export function useWhereabouts(running: string): void {
  const { pathname } = useLocation()
  const first = useRef(true)
  useEffect(() => {
    const arrives = !first.current
    first.current = false
    const began = Date.now()
    let done = false
    let inSight: Element | null = null
    const look = () => {
      const heading = document.querySelector<HTMLElement>('#screen h1')
      if (!heading) return
      const screen = heading.dataset.title ?? heading.textContent
      const title = `${screen} · ${running} · Fair Ladle`
      if (document.title !== title) document.title = title
      // Only where it is another: scrolling reads the layout, and rows come and go all the time.
      const tab = document.querySelector('.side a.active')
      if (tab !== inSight) tab?.scrollIntoView({ block: 'nearest', inline: 'center' })
      inSight = tab
      if (done || !arrives) return
      done = true
      const inside = document.activeElement?.closest('#screen, [role=dialog]')
      if (inside && document.activeElement?.id !== 'screen') return
      if (Date.now() - began < PATIENCE) focusOn(heading)
    }
    const watch = new MutationObserver(look)
    watch.observe(document.getElementById('screen') ?? document.body, { childList: true, subtree: true })
    look()
    return () => watch.disconnect()
  }, [pathname, running])
}

/** Never lets the focus fall out of the page: where what had it is gone, what is left around that takes it. */
export function useKeptFocus(): void {
  useEffect(() => {
    let trail: Element[] = []
    let had: HTMLElement | null = null
    let timer = 0
    const remember = (event: FocusEvent) => {
      had = event.target as HTMLElement
      trail = []
      for (let at: Element | null = had; at && at !== document.body; at = at.parentElement) trail.push(at)
    }
    const mend = (tries: number) => {
      if (document.activeElement !== document.body || !had) return
      if (had.isConnected && had.matches(CAN_TAKE_FOCUS)) {
        had.focus({ preventScroll: true })
        return
      }
      if (had.isConnected && 'disabled' in had && tries < TRIES) {
        // A button at work has it again when it is done.
        timer = window.setTimeout(() => mend(tries + 1), AT_WORK)
        return
      }
      const dialog = document.querySelector<HTMLElement>('.modal.show')
      const around = trail.find((each) => each.isConnected && each.matches('article, section, form, tr, li'))
      const next =
        around?.querySelector<HTMLElement>(CAN_TAKE_FOCUS) ??
        trail.find((each): each is HTMLElement => each.isConnected && each.matches(CAN_TAKE_FOCUS)) ??
        dialog ??
        document.querySelector<HTMLElement>('#screen h1, h1')
      if (next) focusOn(next)
    }
    const soon = () => {
      if (document.activeElement !== document.body) return
      clearTimeout(timer)
      timer = window.setTimeout(() => mend(0), 60)
    }
    // Whoever presses beside everything lets the focus go on purpose.
    const letGo = (event: PointerEvent) => {
      if (!(event.target as Element).closest(CAN_TAKE_FOCUS)) had = null
    }
    document.addEventListener('focusin', remember)
    document.addEventListener('pointerdown', letGo, true)
    const watch = new MutationObserver(soon)
    watch.observe(document.body, { childList: true, subtree: true, attributes: true, attributeFilter: ['disabled'] })
    return () => {
      document.removeEventListener('focusin', remember)
      document.removeEventListener('pointerdown', letGo, true)
      watch.disconnect()
      clearTimeout(timer)
    }
  }, [])
}

function focusOn(element: HTMLElement): void {
  if (!element.matches(CAN_TAKE_FOCUS)) element.tabIndex = -1
  element.focus({ preventScroll: true })
}
