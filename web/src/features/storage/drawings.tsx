import { roundUnits } from '../../domain/units'
import type { Size } from './queries'

const DAYS = [90, 30, 7, 0]

const levels = (size: Size) => [size.quarter_ago, size.month_ago, size.week_ago, size.now]

/** Ninety days as a small line; its figures stand beside it. */
export function Trend({ size, width = 62, height = 18 }: { size: Size; width?: number; height?: number }) {
  const figures = levels(size)
  const [least, most] = [Math.min(...figures), Math.max(...figures)]
  const y = (figure: number) => height - 2 - ((figure - least) / Math.max(1, most - least)) * (height - 4)
  const x = (days: number) => 1 + ((90 - days) / 90) * (width - 4)
  const line = figures.map((figure, n) => `${n ? 'L' : 'M'}${x(DAYS[n] ?? 0).toFixed(1)},${y(figure).toFixed(1)}`)
  return (
    <svg className="trend" width={width} height={height} aria-hidden="true">
      <path d={line.join('')} />
      <circle cx={x(0)} cy={y(size.now)} r={2} />
    </svg>
  )
}

/** A size beside the largest of its list: solid what was there a month ago, light what came since. */
export function SizeBar({ size, largest }: { size: Size; largest: number }) {
  const share = (grains: number) => `${Math.min(100, (grains / Math.max(1, largest)) * 100)}%`
  return (
    <span className="sizebar" aria-hidden="true">
      <i style={{ width: share(Math.min(size.now, size.month_ago)) }} />
      <i className="new" style={{ width: share(Math.max(0, size.now - size.month_ago)) }} />
    </span>
  )
}

/** What came or went since, with its sign. */
export function Grown({ by, perUnit }: { by: number; perUnit: number }) {
  const rounded = roundUnits(Math.abs(by), perUnit)
  if (rounded === '0') return <span className="quiet">0</span>
  return <>{`${by > 0 ? '+' : '−'}${rounded}`}</>
}
