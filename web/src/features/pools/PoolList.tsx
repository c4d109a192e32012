import { useVirtualizer } from '@tanstack/react-virtual'
import { useEffect, useRef } from 'react'
import type { Schemas } from '../../api/client'
import { Gauge } from '../../components/Gauge'
import { useNarrow } from '../../components/useNarrow'
import { units, unitName } from '../../domain/units'
import { useDraft } from '../drafts/context'

type PoolBody = Schemas['PoolBody']
const HEIGHT = 70

/** The pools of a branch, of which only those on screen are there. */
export function PoolList({
  total,
  rowAt,
  onShown,
  chosen,
  own,
  choose,
}: {
  total: number
  /** A pool is undefined while it is not fetched yet. */
  rowAt: (place: number) => PoolBody | undefined
  onShown: (first: number, last: number) => void
  chosen: PoolBody | undefined
  /** The account whose own pools need not say whose they are. */
  own: string | undefined
  choose: (pool: PoolBody) => void
}) {
  const narrow = useNarrow()
  const scroller = useRef<HTMLElement>(null)
  const virtual = useVirtualizer({
    count: total,
    getScrollElement: () => scroller.current,
    estimateSize: () => HEIGHT,
    overscan: 6,
  })
  const drawn = virtual.getVirtualItems()
  const [first, last] = [drawn[0]?.index ?? 0, drawn.at(-1)?.index ?? 0]
  useEffect(() => onShown(first, last), [onShown, first, last])
  return (
    <nav className="poollist" aria-label="Pools" ref={scroller}>
      <div style={{ height: virtual.getTotalSize(), position: 'relative' }}>
        {drawn.map((item) => {
          const pool = rowAt(item.index)
          return (
            <div
              key={item.key}
              data-index={item.index}
              ref={virtual.measureElement}
              className="placed"
              style={{ transform: `translateY(${item.start}px)` }}
            >
              {pool ? (
                <button
                  type="button"
                  aria-current={pool.owner === chosen?.owner && pool.product === chosen.product}
                  onClick={() => choose(pool)}
                >
                  <b>{pool.name}</b>
                  {pool.owner !== own && <span className="quiet small"> {pool.owner_name}</span>}
                  <span className="t">
                    <span>
                      {units(pool.now.promised, pool.per_unit)}/{units(pool.now.supply, pool.per_unit)}{' '}
                      {unitName(pool.unit, 2)}
                    </span>
                    <FreeOf pool={pool} />
                  </span>
                  <Gauge
                    width={narrow ? window.innerWidth - 32 : 216}
                    amounts={{
                      used: pool.now.used,
                      held: pool.now.promised,
                      reserve: 0,
                      limit: pool.now.supply,
                      reachable: pool.now.promised,
                    }}
                  />
                </button>
              ) : (
                <span className="quiet" style={{ display: 'block', height: HEIGHT }}>
                  …
                </span>
              )}
            </div>
          )
        })}
      </div>
    </nav>
  )
}

/** What is free of a pool, as the open draft leaves it where it changes that. */
function FreeOf({ pool }: { pool: PoolBody }) {
  const { effect } = useDraft()
  const now = pool.now.short ? -pool.now.short : Math.max(0, pool.now.supply - pool.now.promised)
  const drafted = effect?.pools.find((each) => each.owner === pool.owner && each.product === pool.product)
  const free = drafted?.free_after ?? now
  return (
    <b className={free < 0 ? 'over' : undefined}>
      {units(Math.abs(free), pool.per_unit)} {free < 0 ? 'short' : 'free'}
      {free !== now && <span className="quiet small"> in the draft</span>}
    </b>
  )
}
