import { useRef, useState } from 'react'
import { whole } from '../../domain/units'
import { dayAfter, shortDay, dayName } from '../../domain/months'

const SHOWN = 60

/** How many entries each of the last days has, as a strip of bars: the way to a day. */
export function DayStrip({
  days,
  until,
  partial,
  chosen,
  choose,
}: {
  days: { day: string; entries: number }[]
  until: string
  partial: boolean
  chosen: string | undefined
  choose: (day: string | null) => void
}) {
  const counts = new Map(days.map((each) => [each.day, each.entries]))
  const shown = Array.from({ length: SHOWN }, (_, back) => dayAfter(until, back + 1 - SHOWN))
  const most = Math.max(1, ...shown.map((day) => counts.get(day) ?? 0))
  const [at, setAt] = useState(chosen ?? until)
  const strip = useRef<HTMLDivElement>(null)
  const step = (event: React.KeyboardEvent) => {
    const by = { ArrowLeft: -1, ArrowRight: 1, Home: -SHOWN, End: SHOWN }[event.key]
    if (by === undefined) return
    event.preventDefault()
    const next = shown[Math.min(Math.max(shown.indexOf(at) + by, 0), SHOWN - 1)] ?? until
    setAt(next)
    strip.current?.querySelector<HTMLElement>(`[data-day="${next}"]`)?.focus()
  }
  return (
    <div className="daystrip" role="group" aria-label="Entries a day" ref={strip} onKeyDown={step}>
      {shown.map((day) => {
        const count = counts.get(day) ?? 0
        const said = `${dayName(day)}: ${whole(count)} ${count === 1 ? 'entry' : 'entries'}`
        return (
          <button
            key={day}
            type="button"
            data-day={day}
            tabIndex={day === (shown.includes(at) ? at : until) ? 0 : -1}
            title={said}
            aria-label={said}
            aria-pressed={day === chosen}
            onClick={() => {
              setAt(day)
              choose(day === chosen ? null : day)
            }}
          >
            <span style={{ height: count ? `${Math.max(Math.sqrt(count / most) * 100, 12)}%` : 0 }} />
            {day.endsWith('-01') && <small aria-hidden>{shortDay(day)}</small>}
          </button>
        )
      })}
      <span className="quiet small">
        {partial ? 'newest 20 000 entries a day' : 'entries a day'}, most {whole(most)}
      </span>
    </div>
  )
}
