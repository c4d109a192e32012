import { dayName, shortDay } from './months'

interface Filling {
  day: string | null
  soonest: string | null
  latest: string | null
}

/** When something is full at its pace, with the range: 12 Dec 2026 (5 Dec to 3 Jan 2027). */
export function fullSaid({ day, soonest, latest }: Filling): string {
  if (day === null) return soonest === null ? 'not in sight' : `not before ${dayName(soonest)}`
  if (soonest === null || soonest === latest) return dayName(day)
  return `${dayName(day)} (${shortDay(soonest)} to ${latest ? dayName(latest) : 'never'})`
}
