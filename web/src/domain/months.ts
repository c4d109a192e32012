/** Months and days as text, for reading and for addresses. All days of the operator's time zone. */

const names = [
  'January',
  'February',
  'March',
  'April',
  'May',
  'June',
  'July',
  'August',
  'September',
  'October',
  'November',
  'December',
]
const weekdays = ['Sunday', 'Monday', 'Tuesday', 'Wednesday', 'Thursday', 'Friday', 'Saturday']

function parts(text: string): [number, number, number] {
  const [year = 0, month = 1, day = 1] = text.slice(0, 10).split('-').map(Number)
  return [year, month, day]
}

/** October 2026 */
export function monthName(month: string): string {
  const [year, number] = parts(month)
  return `${names[number - 1] ?? ''} ${year}`
}

/** October */
export function monthWord(month: string): string {
  return names[parts(month)[1] - 1] ?? ''
}

/** The month so many after (or before) another, as YYYY-MM. */
export function monthAfter(month: string, steps: number): string {
  const [year, number] = parts(month)
  const count = year * 12 + number - 1 + steps
  return `${Math.floor(count / 12)}-${String((count % 12) + 1).padStart(2, '0')}`
}

/** 31 Dec 2026 */
export function dayName(day: string): string {
  const [year, month, date] = parts(day)
  return `${date} ${(names[month - 1] ?? '').slice(0, 3)} ${year}`
}

/** 31 Dec */
export function shortDay(day: string): string {
  const [, month, date] = parts(day)
  return `${date} ${(names[month - 1] ?? '').slice(0, 3)}`
}

/** Tuesday, 24 November */
export function longDay(day: string): string {
  const [year, month, date] = parts(day)
  return `${weekdays[new Date(Date.UTC(year, month - 1, date)).getUTCDay()] ?? ''}, ${date} ${names[month - 1] ?? ''}`
}

/**
 * The day that words name, as "31 Oct", "31 October 2026" or "2026-10-31"; without a year the last such day up to
 * `today`. Null where they name none.
 */
export function dayIn(words: string, today: string): string | null {
  const text = words.toLowerCase().replace(/^as of /, '')
  const written = /^(\d{4})-(\d{2})-(\d{2})$/.exec(text)
  const [, date, name, year] = /^(\d{1,2}) ([a-z]{3,9})(?: (\d{4}))?$/.exec(text) ?? []
  const month = name ? names.findIndex((each) => each.toLowerCase().startsWith(name)) + 1 : 0
  const made = (of: number) => `${of}-${String(month).padStart(2, '0')}-${(date ?? '').padStart(2, '0')}`
  const thisYear = Number(today.slice(0, 4))
  const day = written
    ? text
    : !month
      ? null
      : year
        ? made(Number(year))
        : made(thisYear) > today
          ? made(thisYear - 1)
          : made(thisYear)
  return day && !Number.isNaN(Date.parse(day)) && new Date(day).toISOString().slice(0, 10) === day ? day : null
}

/** Whole months from a first day through a last one; null where they are none. */
export function wholeMonths(first: string, last: string): number | null {
  const [a, b] = [parts(first), parts(last)]
  const after = new Date(Date.UTC(b[0], b[1] - 1, b[2] + 1))
  if (after.getUTCDate() !== a[2]) return null
  const months = (after.getUTCFullYear() - a[0]) * 12 + after.getUTCMonth() + 1 - a[1]
  return months > 0 ? months : null
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
let format: Intl.DateTimeFormat | undefined

/** The time zone that days are reckoned in; before it is known, the reader's own. */
export function reckonIn(timeZone: string) {
  if (timeZone !== zone) [zone, format] = [timeZone, undefined]
}

function local(instant: string): Record<string, string> {
  format ??= new Intl.DateTimeFormat('en-GB', {
    timeZone: zone,
    year: 'numeric',
    month: '2-digit',
    day: '2-digit',
    hour: '2-digit',
    minute: '2-digit',
    hourCycle: 'h23',
  })
  return Object.fromEntries(format.formatToParts(new Date(instant)).map((each) => [each.type, each.value]))
}

/** 13:05 */
export function clockTime(instant: string): string {
  const at = local(instant)
  return `${at.hour ?? ''}:${at.minute ?? ''}`
}

/** The day an instant falls on there, YYYY-MM-DD; a day is itself. */
export function dayOf(instant: string): string {
  if (instant.length <= 10) return instant
  const at = local(instant)
  return `${at.year}-${at.month}-${at.day}`
}

/** An instant as a clock there shows it: 24 Nov 2026, 12:04 */
export function instantName(instant: string): string {
  const at = local(instant)
  return `${dayName(dayOf(instant))}, ${at.hour}:${at.minute}`
}
