import { DayPicker } from 'react-day-picker'

/** YYYY-MM-DD as the reader's midnight and back: a calendar shows days, no instants. */
const dateOf = (day: string) => new Date(Number(day.slice(0, 4)), Number(day.slice(5, 7)) - 1, Number(day.slice(8, 10)))
const textOf = (date: Date) =>
  `${date.getFullYear()}-${String(date.getMonth() + 1).padStart(2, '0')}-${String(date.getDate()).padStart(2, '0')}`

/** One month of days to choose from, walked by the arrows. */
export default function Calendar({
  day,
  today,
  min,
  max,
  choose,
}: {
  day: string
  today: string
  min: string | undefined
  max: string | undefined
  choose: (day: string) => void
}) {
  return (
    <DayPicker
      mode="single"
      autoFocus
      weekStartsOn={1}
      showOutsideDays
      today={dateOf(today)}
      selected={dateOf(day)}
      defaultMonth={dateOf(day)}
      disabled={[...(min ? [{ before: dateOf(min) }] : []), ...(max ? [{ after: dateOf(max) }] : [])]}
      onDayClick={(date, modifiers) => {
        if (!modifiers.disabled) choose(textOf(date))
      }}
    />
  )
}
