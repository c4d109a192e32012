import { minus } from '../domain/money'
import { decimal, unitName } from '../domain/units'
import { Gauge } from './Gauge'

export interface Limit {
  account: string
  name: string
  reserve: string | null
  cap: string | null
  burst: string | null
  goes_past: boolean
  load: string | null
  held: string | null
  leaves: string | null
  binds: boolean
}

function short(text: string): string {
  const rest = text.split('.')[1]
  return decimal(text, rest ? Math.min(1, rest.length) : 0)
}

/** One drawing for "why not more?": the account at the bottom, each limit above it a rung, up to the supply or the top of one’s branch. */
export function Ladder({
  limits,
  unit,
  onRung,
}: {
  limits: Limit[]
  unit: string
  onRung?: (account: string) => void
}) {
  return (
    <ol className="ladder" aria-label="Limits up to the supply" reversed>
      {[...limits].reverse().map((limit) => (
        <li key={limit.account} className={limit.binds ? 'binds' : undefined}>
          <Rung limit={limit} unit={unit} onRung={onRung} />
        </li>
      ))}
    </ol>
  )
}

function Rung({ limit, unit, onRung }: { limit: Limit; unit: string; onRung?: (account: string) => void }) {
  const leaves = limit.leaves
  const over = leaves !== null && leaves.startsWith('-')
  const toCap =
    limit.goes_past && limit.cap !== null && limit.load !== null
      ? short(minus(limit.cap, limit.load).replace(/^-.*/, '0'))
      : null
  const can = onRung && limit.account !== 'supply'
  return (
    <>
      <div className="rung">
        {can ? (
          <button
            type="button"
            className="btn btn-link"
            style={{ color: 'inherit', textAlign: 'left', whiteSpace: 'normal' }}
            onClick={() => onRung(limit.account)}
          >
            {limit.name}
          </button>
        ) : (
          limit.name
        )}
        <span>
          {limit.account === 'supply' && limit.cap !== null && `${short(limit.cap)} with true-up`}
          {limit.account !== 'supply' &&
            limit.cap !== null &&
            `cap ${short(limit.cap)}${limit.burst && limit.burst !== '0' ? ` + ${short(limit.burst)}` : ''}`}
          {limit.account !== 'supply' && limit.cap === null && 'no cap'}
        </span>
      </div>
      {limit.load !== null && (
        <Gauge
          width={222}
          amounts={{
            used: Number(limit.load),
            held: Number(limit.held ?? limit.load),
            reserve: Number(limit.reserve ?? 0),
            limit: limit.cap === null ? null : Number(limit.cap),
            reachable: Number(limit.load) * 1.15,
          }}
        />
      )}
      <div className="rungfigs">
        <span>{limit.load !== null && `${short(limit.load)} ${unitName(unit, Number(limit.load))} counted`}</span>
        <b>
          {leaves === null
            ? toCap === null
              ? 'no limit'
              : `${toCap} to cap, then past it`
            : over
              ? `${short(leaves.slice(1))} over`
              : `leaves ${short(leaves)}`}
        </b>
      </div>
      {limit.binds && <span className="visually-hidden">Limiting.</span>}
    </>
  )
}
