import { scaleLinear } from 'd3-scale'
import { line, curveStepAfter } from 'd3-shape'
import { shortDay } from '../domain/months'
import { decimal, unitName } from '../domain/units'

export interface ChartDay {
  day: string
  used: string
  held: string
  reserve: string
  cap: string | null
}

const [HEIGHT, BOTTOM, TOP, LEFT] = [132, 16, 8, 34]

/** A month of one product, day by day: solid in use, hatched promised, a line for the cap and one for the reserve. */
export function DayChart({
  days,
  unit,
  chosen,
  onChoose,
  width,
}: {
  days: ChartDay[]
  unit: string
  chosen: string | null
  onChoose: (day: string) => void
  width: number
}) {
  const numbers = days.map((each) => ({
    day: each.day,
    used: Number(each.used),
    held: Number(each.held),
    reserve: Number(each.reserve),
    cap: each.cap === null ? null : Number(each.cap),
  }))
  const highest = Math.max(1, ...numbers.map((each) => Math.max(each.held, each.cap ?? 0, each.reserve)))
  const y = scaleLinear([0, highest], [HEIGHT - BOTTOM, TOP]).nice(4)
  const step = (width - LEFT) / Math.max(1, numbers.length)
  const x = (place: number) => LEFT + place * step
  const capLine = line<(typeof numbers)[number]>(
    (_, place) => x(place),
    (each) => y(each.cap ?? 0),
  )
    .defined((each) => each.cap !== null)
    .curve(curveStepAfter)
  const reserveLine = line<(typeof numbers)[number]>(
    (_, place) => x(place),
    (each) => y(each.reserve),
  )
    .defined((each) => each.reserve > 0)
    .curve(curveStepAfter)
  const ended = [...numbers, ...numbers.slice(-1)]
  const move = (event: React.KeyboardEvent, place: number) => {
    const next = { ArrowRight: place + 1, ArrowLeft: place - 1, Home: 0, End: days.length - 1 }[event.key]
    const day = next === undefined ? undefined : days[next]
    if (!day) return
    event.preventDefault()
    const bar = event.currentTarget.parentElement?.querySelector<SVGElement>(`[data-day="${day.day}"]`)
    bar?.focus()
  }
  const reachable = days.some((each) => each.day === chosen) ? chosen : days[0]?.day
  return (
    <svg
      className="daychart"
      width={width}
      height={HEIGHT}
      role="group"
      aria-label="Day by day; choose a day for what is behind it"
    >
      {y.ticks(4).map((tick) => (
        <g key={tick} className="tick" aria-hidden="true">
          <line x1={LEFT} x2={width} y1={y(tick)} y2={y(tick)} />
          <text x={LEFT - 6} y={y(tick) + 3.5} textAnchor="end">
            {tick >= 10000 ? `${tick / 1000}k` : tick}
          </text>
        </g>
      ))}
      {numbers.map((each, place) => {
        const label = `${shortDay(each.day)}: ${decimal(days[place]?.used ?? '0', 2)} ${unitName(unit, 2)} in use, ${decimal(days[place]?.held ?? '0', 2)} held`
        return (
          <g
            key={each.day}
            data-day={each.day}
            className={each.day === chosen ? 'day chosen' : 'day'}
            role="button"
            aria-label={label}
            aria-pressed={each.day === chosen}
            tabIndex={each.day === reachable ? 0 : -1}
            onClick={() => onChoose(each.day)}
            onKeyDown={(event) => {
              if (event.key === 'Enter' || event.key === ' ') {
                event.preventDefault()
                onChoose(each.day)
              } else move(event, place)
            }}
          >
            <title>{label}</title>
            <rect className="hit" x={x(place)} y={0} width={step} height={HEIGHT} />
            <rect
              x={x(place) + 1}
              width={Math.max(1, step - 2.5)}
              y={y(each.held)}
              height={Math.max(0, y(each.used) - y(each.held))}
              fill="url(#hatch)"
            />
            <rect
              className="used"
              x={x(place) + 1}
              width={Math.max(1, step - 2.5)}
              y={y(each.used)}
              height={Math.max(0, y(0) - y(each.used))}
            />
          </g>
        )
      })}
      <path className="cap" d={capLine(ended) ?? ''} aria-hidden="true" />
      <path className="reserve" d={reserveLine(ended) ?? ''} aria-hidden="true" />
      {numbers.map(
        (each, place) =>
          (place % 7 === 0 || place === numbers.length - 1) &&
          (place === numbers.length - 1 || numbers.length - place > 3) && (
            <text
              key={each.day}
              className="date"
              x={x(place) + step / 2}
              y={HEIGHT - 3}
              textAnchor="middle"
              aria-hidden="true"
            >
              {Number(each.day.slice(8))}
            </text>
          ),
      )}
    </svg>
  )
}
