import { scaleLinear, scaleUtc, type ScaleTime } from 'd3-scale'
import { dayName, shortDay } from '../domain/months'
import { whole } from '../domain/units'

export interface ChartLot {
  reference: string
  quantity: number
  first_day: string
  last_day: string | null
}

export interface ChartPoint {
  day: string
  promised: number
  used: number
  short: number
}

interface PoolChartProps {
  lots: ChartLot[]
  points: ChartPoint[]
  today: string
  perUnit: number
  unit: string
  width: number
  height: number
  /** A day ahead with a shortfall was chosen. */
  onShort: (day: string) => void
}

const at = (day: string) => Date.parse(`${day}T00:00:00Z`)
const after = (day: string) => at(day) + 86_400_000
const LEFT = 52
const TOP = 18
const BOTTOM = 24

/** A pool over time: lots stacked, promised and used drawn over them, endings and shortfalls marked. It fetches nothing. */
export function PoolChart({ lots, points, today, perUnit, unit, width, height, onShort }: PoolChartProps) {
  const first = at(points[0]?.day ?? today)
  const last = at(points.at(-1)?.day ?? today)
  const segments = stacked(lots, first, last)
  const most = Math.max(1, ...segments.map((each) => each.top), ...points.map((each) => each.promised)) / perUnit
  const x = scaleUtc([first, last], [LEFT, width - 10])
  const y = scaleLinear([0, most * 1.06], [height - BOTTOM, TOP]).nice(4)
  const step = (figure: (point: ChartPoint) => number) =>
    points
      .map((point, n) => `${n ? `H${x(at(point.day))}V` : `M${x(at(point.day))},`}${y(figure(point) / perUnit)}`)
      .join('') + `H${x(last)}`
  const short = points.filter((point) => point.short > 0 && point.day > today)
  return (
    <svg
      className="poolchart"
      width={width}
      height={height}
      role="group"
      aria-label={`Lots, held and used over time, ${unit}`}
    >
      {y.ticks(4).map((tick) => (
        <g className="tick" key={tick}>
          <line x1={LEFT} x2={width - 10} y1={y(tick)} y2={y(tick)} />
          <text x={LEFT - 6} y={y(tick) + 4} textAnchor="end">
            {whole(tick)}
          </text>
        </g>
      ))}
      {segments.map((each) => (
        <rect
          key={`${each.reference} ${each.from}`}
          className={`lot shade${each.shade}`}
          x={x(each.from)}
          width={Math.max(0, x(each.to) - x(each.from))}
          y={y(each.top / perUnit)}
          height={Math.max(0, y(each.bottom / perUnit) - y(each.top / perUnit))}
        >
          <title>{`${each.reference}: ${whole((each.top - each.bottom) / perUnit)} ${unit}`}</title>
        </rect>
      ))}
      {endings(lots, first, last, x).map(({ lot, at: place, named }) => (
        <g className="ends" key={`${lot.reference} ${lot.first_day}`} transform={`translate(${place},0)`}>
          <title>{`${lot.reference} ends`}</title>
          <line y1={TOP} y2={height - BOTTOM} />
          {named && (
            <text y={TOP - 6} textAnchor="middle">
              {lot.reference}
            </text>
          )}
        </g>
      ))}
      <path className="used" d={step((point) => point.used)} />
      <path className="promised" d={step((point) => point.promised)} />
      <g className="now" transform={`translate(${x(at(today))},0)`}>
        <line y1={TOP} y2={height - BOTTOM} />
        <text y={height - 8} textAnchor="middle">
          today
        </text>
      </g>
      {ticks(x, x(at(today))).map(({ at: place, label }) => (
        <text className="when" key={label} x={place} y={height - 8} textAnchor="middle">
          {label}
        </text>
      ))}
      {short.map((point, n) => (
        <g
          key={point.day}
          className="short"
          role="button"
          tabIndex={0}
          aria-label={`Short by ${whole(point.short / perUnit)} ${unit} from ${shortDay(point.day)} on: plan`}
          onClick={() => onShort(point.day)}
          onKeyDown={(event) => {
            if (event.key === 'Enter' || event.key === ' ') {
              event.preventDefault()
              onShort(point.day)
            }
          }}
        >
          <rect
            x={x(at(point.day))}
            width={Math.max(3, x(at(short[n + 1]?.day ?? points.at(-1)?.day ?? point.day)) - x(at(point.day)))}
            y={y(point.promised / perUnit)}
            height={Math.max(2, y((point.promised - point.short) / perUnit) - y(point.promised / perUnit))}
          />
        </g>
      ))}
    </svg>
  )
}

/** So wide is a letter of the axis, about. */
const LETTER = 5.8

/** The days the axis names, the first of each year with it; none that would run into another or into today. */
function ticks(x: ScaleTime<number, number>, today: number): { at: number; label: string }[] {
  const found: { at: number; label: string; year: number }[] = []
  let taken = -Infinity
  for (const tick of x.ticks(8)) {
    const [place, year] = [x(tick), tick.getUTCFullYear()]
    const label = found.at(-1)?.year === year ? shortDay(tick.toISOString()) : dayName(tick.toISOString())
    const half = (label.length * LETTER) / 2
    if (place - half < taken + 6 || Math.abs(place - today) < half + 5 * LETTER) continue
    found.push({ at: place, label, year })
    taken = place + half
  }
  return found
}

/** Where lots end, each named only where its name does not run into the one before; the table below has them all. */
function endings(
  lots: ChartLot[],
  first: number,
  last: number,
  x: (time: number) => number,
): { lot: ChartLot; at: number; named: boolean }[] {
  let taken = -Infinity
  return lots
    .flatMap((lot) =>
      lot.last_day !== null && after(lot.last_day) > first && after(lot.last_day) < last
        ? [{ lot, at: x(after(lot.last_day)) }]
        : [],
    )
    .sort((one, other) => one.at - other.at)
    .map((each) => {
      const half = each.lot.reference.length * 3.2 + 4
      const named = each.at - half > taken
      if (named) taken = each.at + half
      return { ...each, named }
    })
}

interface Segment {
  reference: string
  from: number
  to: number
  bottom: number
  top: number
  shade: number
}

/** Each lot's rectangles between the days on which any lot begins or ends. */
function stacked(lots: ChartLot[], first: number, last: number): Segment[] {
  const turns = [
    ...new Set([first, last, ...lots.flatMap((lot) => [at(lot.first_day), lot.last_day ? after(lot.last_day) : last])]),
  ]
    .filter((each) => each >= first && each <= last)
    .sort((a, b) => a - b)
  const found: Segment[] = []
  for (const [n, from] of turns.slice(0, -1).entries()) {
    const to = turns[n + 1] ?? last
    let bottom = 0
    lots.forEach((lot, place) => {
      if (at(lot.first_day) > from || (lot.last_day !== null && after(lot.last_day) <= from)) return
      found.push({ reference: lot.reference, from, to, bottom, top: bottom + lot.quantity, shade: place % 3 })
      bottom += lot.quantity
    })
  }
  return found
}
