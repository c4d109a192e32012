/** Months and days as text, for reading and for addresses. All days of the operator's time zone. */

/** Days are days, whatever clock the reader's machine follows. */
const format = (how: Intl.DateTimeFormatOptions) => new Intl.DateTimeFormat('en-GB', { ...how, timeZone: 'UTC' })
const ofMonth = format({ month: 'long', year: 'numeric' })
const ofMonthAlone = format({ month: 'long' })
const ofDay = format({ day: 'numeric', month: 'short', year: 'numeric' })
const ofDayAlone = format({ day: 'numeric', month: 'short' })
const ofWeekday = format({ weekday: 'long', day: 'numeric', month: 'long' })
const months = Array.from({ length: 12 }, (_, at) => ofMonthAlone.format(Date.UTC(2026, at)))

function parts(text: string): [number, number, number] {
  const [year = 0, month = 1, day = 1] = text.slice(0, 10).split('-').map(Number)
  return [year, month, day]
}

function at(text: string): number {
  const [year, month, day] = parts(text)
  const found = Date.UTC(year, month - 1, day)
  return Number.isNaN(found) ? 0 : found
}

/** October 2026 */
export function monthName(month: string): string {
  return ofMonth.format(at(month))
}

/** October */
export function monthWord(month: string): string {
  return ofMonthAlone.format(at(month))
}

/** The month so many after (or before) another, as YYYY-MM. */
export function monthAfter(month: string, steps: number): string {
  const [year, number] = parts(month)
  const count = year * 12 + number - 1 + steps
  return `${Math.floor(count / 12)}-${String((count % 12) + 1).padStart(2, '0')}`
}

/** "Sept" is what English locales make of one month alone; three letters as every other, and as in every document. */
const three = (written: string) => written.replace('Sept', 'Sep')

/** 31 Dec 2026 */
export function dayName(day: string): string {
  return three(ofDay.format(at(day)))
}

/** 31 Dec */
export function shortDay(day: string): string {
  return three(ofDayAlone.format(at(day)))
}

/** Tuesday 24 November */
export function longDay(day: string): string {
  return ofWeekday.format(at(day))
}

/**
 * The day that words name, as "31 Oct", "31 October 2026" or "2026-10-31"; without a year the last such day up to
 * `today`, or the next one from it. Null where they name none.
 */
export function dayIn(words: string, today: string, means: 'last' | 'next' = 'last'): string | null {
  const text = words.toLowerCase().replace(/^as of /, '')
  const written = /^(\d{4})-(\d{2})-(\d{2})$/.exec(text)
  const [, date, name, year] = /^(\d{1,2}) ([a-z]{3,9})(?: (\d{4}))?$/.exec(text) ?? []
  const month = name ? months.findIndex((each) => each.toLowerCase().startsWith(name)) + 1 : 0
  const made = (of: number) => `${of}-${String(month).padStart(2, '0')}-${(date ?? '').padStart(2, '0')}`
  const thisYear = Number(today.slice(0, 4))
  const day = written
    ? text
    : !month
      ? null
      : year
        ? made(Number(year))
        : means === 'last' && made(thisYear) > today
          ? made(thisYear - 1)
          : means === 'next' && made(thisYear) < today
            ? made(thisYear + 1)
            : made(thisYear)
  return day && !Number.isNaN(Date.parse(day)) && new Date(day).toISOString().slice(0, 10) === day ? day : null
}

/** Whole months from a first day through a last one; null where they are none. */
export function wholeMonths(first: string, last: string): number | null {
  const [a, b] = [parts(first), parts(last)]
  const after = new Date(Date.UTC(b[0], b[1] - 1, b[2] + 1))
  if (after.getUTCDate() !== a[2]) return null
  const count = (after.getUTCFullYear() - a[0]) * 12 + after.getUTCMonth() + 1 - a[1]
  return count > 0 ? count : null
}

/** The day so many after (or before) another. */
export function dayAfter(day: string, steps = 1): string {
  const [year, month, date] = parts(day)
  return new Date(Date.UTC(year, month - 1, date + steps)).toISOString().slice(0, 10)
}

/** Days from one day to another. */
export function daysBetween(from: string, to: string): number {
  const [a, b] = [parts(from), parts(to)]
  return Math.round((Date.UTC(b[0], b[1] - 1, b[2]) - Date.UTC(a[0], a[1] - 1, a[2])) / 86_400_000)
}

let zone: string | undefined
let clock: Intl.DateTimeFormat | undefined

/** The time zone that days are reckoned in; before it is known, the reader's own. */
export function reckonIn(timeZone: string) {
  if (timeZone !== zone) [zone, clock] = [timeZone, undefined]
}

function local(instant: string): Record<string, string> {
  clock ??= new Intl.DateTimeFormat('en-GB', {
    timeZone: zone,
    year: 'numeric',
    month: '2-digit',
    day: '2-digit',
    hour: '2-digit',
    minute: '2-digit',
    hourCycle: 'h23',
  })
  return Object.fromEntries(clock.formatToParts(new Date(instant)).map((each) => [each.type, each.value]))
}

/** 13:05 */
export function clockTime(instant: string): string {
  const read = local(instant)
  return `${read.hour ?? ''}:${read.minute ?? ''}`
}

/** The day an instant falls on there, YYYY-MM-DD; a day is itself. */
export function dayOf(instant: string): string {
  if (instant.length <= 10) return instant
  const read = local(instant)
  return `${read.year}-${read.month}-${read.day}`
}

/** An instant as a clock there shows it: 24 Nov 2026, 12:04 */
export function instantName(instant: string): string {
  return `${dayName(dayOf(instant))}, ${clockTime(instant)}`
}

/** The day after another, or so many days after it, as YYYY-MM-DD. */
export function nextDay(day: string, by = 1): string {
  return new Date(Date.parse(`${day}T00:00:00Z`) + by * 86_400_000).toISOString().slice(0, 10)
}
