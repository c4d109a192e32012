import { scaleLog } from 'd3-scale'
import { useRef } from 'react'
import type { Schemas } from '../../api/client'
import { useNarrow } from '../../components/useNarrow'
import { units, whole } from '../../domain/units'

type Band = Schemas['SizeBand']

const [HEIGHT, BOTTOM, TOP, LEFT, RIGHT] = [150, 20, 14, 10, 14]
const STEP = 1.05
/** More would stand between sizes of two digits, and be empty. */
const COLUMNS_A_DECADE = 20
/** A label on the axis takes so much. */
const LABEL = 52

/** So many people store so much, with a limit as a line that arrows, dragging or typing move. It fetches nothing. */
export function Distribution({
  bands,
  perUnit,
  limit,
  was,
  move,
}: {
  bands: Band[]
  perUnit: number
  limit: number | null
  /** What the limit is now. */
  was: number | undefined
  /** Another limit, in grains; undefined where it cannot be moved. */
  move: ((grains: number) => void) | undefined
}) {
  const svg = useRef<SVGSVGElement>(null)
  const wide = useNarrow() ? 340 : 740
  const around = limit || was || 10 * perUnit
  const [first, last] = [bands[0]?.size ?? around / 10, bands.at(-1)?.size ?? around]
  const low = Math.max(1, Math.min(first, limit || first) / 1.6)
  const high = Math.max(last, limit ?? 0, was ?? 0, low * 10) * 1.4
  const x = scaleLog([low, high], [LEFT, wide - RIGHT]).clamp(true)
  const columns = Math.min(48, Math.floor(Math.log10(high / low) * COLUMNS_A_DECADE))
  const bars = binned(bands, (wide - LEFT - RIGHT) / columns, (size) => x(size))
  const most = Math.max(1, ...bars.map((each) => each.people))
  const y = (count: number) => HEIGHT - BOTTOM - (count / most) * (HEIGHT - BOTTOM - TOP)
  const set = (grains: number) => move?.(Math.max(1, rounded(grains)))
  const at = (event: React.PointerEvent) => {
    const box = svg.current?.getBoundingClientRect()
    if (box) set(x.invert(((event.clientX - box.left) / box.width) * wide))
  }
  const place = limit === null ? null : x(Math.max(limit, low))
  const over = limit === null ? 0 : Math.round(bands.reduce((sum, each) => sum + each.people * past(each, limit), 0))
  const onKey = (event: React.KeyboardEvent) => {
    const now = limit ?? last
    const next = {
      ArrowRight: now * STEP,
      ArrowUp: now * STEP,
      ArrowLeft: now / STEP,
      ArrowDown: now / STEP,
      PageUp: now * 1.5,
      PageDown: now / 1.5,
      Home: first,
      End: last,
    }[event.key]
    if (next === undefined) return
    event.preventDefault()
    set(next)
  }
  return (
    <svg ref={svg} className="distribution" viewBox={`0 0 ${wide} ${HEIGHT}`} role="group" aria-label="People by size">
      {bars.map((each) => (
        <rect
          key={each.from}
          className={limit !== null && each.size > limit ? 'past' : undefined}
          x={each.from + 0.5}
          width={Math.max(1, each.to - each.from - 1)}
          y={y(each.people)}
          height={HEIGHT - BOTTOM - y(each.people)}
        >
          <title>{`${whole(each.people)} at about ${units(each.size, perUnit)} GB`}</title>
        </rect>
      ))}
      <line className="base" x1={LEFT} x2={wide - RIGHT} y1={HEIGHT - BOTTOM} y2={HEIGHT - BOTTOM} />
      {ticks(low, high, wide).map((tick) => (
        <text key={tick} x={x(tick)} y={HEIGHT - 6} textAnchor="middle">
          {units(tick, perUnit)} GB
        </text>
      ))}
      {was !== undefined && was !== limit && (
        <line className="was" x1={x(was)} x2={x(was)} y1={TOP} y2={HEIGHT - BOTTOM} />
      )}
      {move && (
        <rect
          className="reach"
          x={LEFT}
          width={wide - LEFT - RIGHT}
          y={0}
          height={HEIGHT - BOTTOM}
          onPointerDown={(event) => {
            event.currentTarget.setPointerCapture(event.pointerId)
            at(event)
          }}
          onPointerMove={(event) => event.buttons === 1 && at(event)}
        />
      )}
      {place !== null && (
        <g
          className="limit"
          role="slider"
          tabIndex={move ? 0 : -1}
          aria-label="Limit"
          aria-valuemin={first}
          aria-valuemax={last}
          aria-valuenow={limit ?? 0}
          aria-valuetext={`${units(limit ?? 0, perUnit)} GB: about ${whole(over)} over`}
          aria-disabled={!move}
          onKeyDown={onKey}
        >
          <line x1={place} x2={place} y1={TOP - 6} y2={HEIGHT - BOTTOM} />
          <path d={`M${place - 5},${TOP - 8}h10l-5,7z`} />
        </g>
      )}
    </svg>
  )
}

/** The part of a band that is past a limit: its people store so much to two digits. */
function past(band: Band, limit: number): number {
  const wide = 10 ** Math.max(0, Math.floor(Math.log10(band.size)) - 1)
  return Math.min(1, Math.max(0, (band.size + wide / 2 - limit) / wide))
}

/** Sizes in columns of even width on the axis. */
function binned(bands: Band[], width: number, x: (size: number) => number) {
  const found = new Map<number, { from: number; to: number; people: number; size: number }>()
  for (const band of bands) {
    const at = Math.floor((x(band.size) - LEFT) / width)
    const bin = found.get(at) ?? { from: LEFT + at * width, to: LEFT + (at + 1) * width, people: 0, size: band.size }
    bin.people += band.people
    bin.size = Math.max(bin.size, band.size)
    found.set(at, bin)
  }
  return [...found.values()]
}

/** To two digits, in whole GB from 10 GB on. */
function rounded(grains: number): number {
  const digits = 10 ** Math.max(0, Math.floor(Math.log10(grains)) - 1)
  return Math.round(grains / digits) * digits
}

function ticks(low: number, high: number, wide: number): number[] {
  const found = []
  const steps = (wide * Math.log10(2)) / Math.log10(high / low) >= LABEL ? [1, 2, 5] : [1]
  for (let decade = 10 ** Math.floor(Math.log10(low)); decade <= high; decade *= 10)
    for (const step of steps) if (decade * step >= low * 1.1 && decade * step <= high / 1.1) found.push(decade * step)
  return found
}
