import type { Today } from '../../api/queries'
import { whole } from '../../domain/units'

/** How many things of a day need somebody: what is past a limit, and what falls short. */
export function needsSomebody(day: Today): number {
  return (
    day.requests.length +
    day.joins.length +
    day.domains.length +
    day.held_drafts.length +
    day.failed_jobs.length +
    day.failed_policies.length +
    day.shortfalls.length +
    day.endings.filter((each) => each.uncovered > 0).length +
    day.past_count
  )
}

/** Counts of notices go up to so many. */
const COUNTED = 10_000

/** A count as it is written where it goes no further than that. */
export function upTo(count: number): string {
  return count > COUNTED ? `${whole(COUNTED)}+` : whole(count)
}
