import { memo } from 'react'

/** Amounts against limits; all in the same grains. */
export interface Amounts {
  /** In use, own and below. */
  used: number
  /** Held: in use or promised. */
  held: number
  reserve: number
  /** The cap or the supply; null = none. */
  limit: number | null
  /** What there is room for where there is no limit of its own. */
  reachable: number
}

const BEYOND = 0.145
const HATCH = 'url(#hatch)'

/** The bar's parts as path data, for a bar so wide and high. */
export function gaugePaths(amounts: Amounts, width: number, height: number) {
  const limited = amounts.limit !== null
  const stop = Math.round(width * (1 - BEYOND)) - 0.5
  const whole = Math.max(1, amounts.limit ?? Math.max(amounts.reachable, amounts.held))
  const at = (value: number) => Math.min(width, (value / whole) * stop)
  const inside = (value: number) => Math.min(stop, at(value))
  const box = (from: number, to: number) =>
    to - from > 0.2 ? `M${from.toFixed(1)} 4h${(to - from).toFixed(1)}v${height}h${(from - to).toFixed(1)}z` : ''
  const notch = amounts.reserve > 0 ? inside(amounts.reserve) : null
  return {
    stop,
    track: `M0 4h${stop}v${height}h-${stop}z`,
    use: box(0, inside(amounts.used)),
    promised: box(inside(amounts.used), inside(amounts.held)),
    over: limited && amounts.held > whole ? box(stop + 1.5, Math.max(stop + 4, at(amounts.held))) : '',
    marks:
      (notch === null ? '' : `M${(notch - 2.5).toFixed(1)} 1h5M${notch.toFixed(1)} 1v${height + 2}`) +
      (limited ? `M${stop} 2v${height + 4}` : ''),
    limited,
  }
}

/** One drawing for every amount against limits; it always stands beside its figures, so it is hidden from readers. */
export const Gauge = memo(function Gauge(props: { amounts: Amounts; width?: number; height?: number }) {
  return gauge(props.amounts, props.width, props.height)
})

/** The same as part of what is drawn anew with it anyway. */
export function gauge(amounts: Amounts, width = 122, height = 8) {
  const paths = gaugePaths(amounts, width, height)
  return (
    <svg className="gauge" width={width} height={height + 8} aria-hidden="true">
      <path className={paths.limited ? 'g-track' : 'g-open'} d={paths.track} />
      {paths.use && <path className="g-use" d={paths.use} />}
      {paths.promised && <path fill={HATCH} d={paths.promised} />}
      {paths.over && <path className="g-over" d={paths.over} />}
      {paths.marks && <path className="g-marks" d={paths.marks} />}
    </svg>
  )
}

/** The hatch that gauges and charts fill with; stands once in the page. */
export function Hatch() {
  return (
    <svg width="0" height="0" style={{ position: 'absolute' }} aria-hidden="true">
      <pattern id="hatch" width="4" height="4" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
        <rect width="4" height="4" fill="var(--hatg)" />
        <rect width="1.6" height="4" fill="var(--use)" />
      </pattern>
    </svg>
  )
}

/** What the parts of a gauge mean. */
export function GaugeKey() {
  return (
    <span className="gaugekey">
      <span>
        <i className="k u" />
        in use
      </span>
      <span>
        <i className="k h" />
        <span className="more">reserved, </span>unused
      </span>
      <span>
        <i className="k n" />
        reserve
      </span>
      <span>
        <i className="k s" />
        cap
      </span>
    </span>
  )
}
