import { useState } from 'react'
import { Button, Modal } from 'react-bootstrap'
import { ApiError } from '../../api/client'
import type { Effect, Pool } from '../../api/queries'
import type { Change } from '../../domain/draft'
import { units, unitName } from '../../domain/units'

interface DraftBarProps {
  changes: Change[]
  effect: Effect | undefined
  error: unknown
  fault: string | null
  busy: boolean
  pools: Pool[]
  nameOf: (code: string) => string
  look: (account: string, product: string) => void
  discard: () => void
  apply: () => Promise<void>
}

/** The draft in the making: what it would do, always in view, and applying it. */
export function DraftBar(props: DraftBarProps) {
  const { changes, effect } = props
  const [review, setReview] = useState(false)
  const [busy, setBusy] = useState(false)
  const count = (label: string) => effect?.breaches.filter((each) => each.label === label).length ?? 0
  const freed = (effect?.pools ?? []).filter((pool) => changes.some((change) => change.product === pool.product))
  const poolOf = (product: string) => props.pools.find((pool) => pool.product === product)
  const changed = new Set(changes.map((change) => change.account))
  const affected = new Set((effect?.cells ?? []).map((cell) => cell.account).filter((account) => !changed.has(account)))
  const apply = async () => {
    setBusy(true)
    try {
      await props.apply()
      setReview(false)
    } finally {
      setBusy(false)
    }
  }
  const may = effect?.may_apply === true && !props.fault && !props.error
  return (
    <section className="draftbar" aria-label="Draft">
      <span><b>Draft</b> {changes.length} {changes.length === 1 ? 'change' : 'changes'}</span>
      <span className="quiet small" aria-live="polite">
        {props.fault ? <span className="over">{props.fault}</span> : props.error ? (
          <span className="over">{props.error instanceof Error ? props.error.message : 'That did not work.'}{props.error instanceof ApiError && props.error.status === 409 ? ' Discard it, or change it and try again.' : ''}</span>
        ) : effect ? (
          <>
            <b>{count('cleared')}</b> {count('cleared') === 1 ? 'breach' : 'breaches'} cleared, <b className={count('new') + count('worse') ? 'over' : undefined}>{count('new') + count('worse')}</b> new or worse
            {freed.map((pool) => {
              const of = poolOf(pool.product)
              return of && <span key={`${pool.product} ${pool.owner}`} className="ms-3">{of.name} <b>{units(pool.free_after, of.per_unit)}</b> {unitName(of.unit, 2)} free</span>
            })}
            <span className="ms-3"><b>{affected.size}</b> other {affected.size === 1 ? 'account' : 'accounts'} affected</span>
          </>
        ) : 'Looking at what it would do…'}
      </span>
      <span className="grow" />
      <Button variant="outline-primary" onClick={props.discard}>Discard</Button>
      <Button onClick={() => setReview(true)} disabled={!effect}>Review and apply</Button>
      <Modal show={review} onHide={() => setReview(false)} animation={false} size="lg" aria-labelledby="review-title">
        <Modal.Header closeButton><Modal.Title id="review-title">Apply {changes.length} {changes.length === 1 ? 'change' : 'changes'} from today on</Modal.Title></Modal.Header>
        <Modal.Body>
          <table className="ledger">
            <thead><tr><th>Account</th><th>Pool</th><th className="fig">Reserve</th><th className="fig">Cap</th><th>At the cap</th></tr></thead>
            <tbody>
              {changes.map((change) => {
                const of = poolOf(change.product)
                const per = of?.per_unit ?? 1
                const quantity = (value: number | null) => (value === null ? 'none' : units(value, per))
                return (
                  <tr key={`${change.account} ${change.product}`}>
                    <td>{props.nameOf(change.account)}</td>
                    <td>{of?.name} <span className="quiet small">{of && unitName(of.unit, 2)}</span></td>
                    <td className="fig"><FromTo from={quantity(change.was.reserve)} to={quantity(change.reserve)} /></td>
                    <td className="fig"><FromTo from={quantity(change.was.cap)} to={quantity(change.cap)} /></td>
                    <td><FromTo from={how(change.was, per)} to={how(change, per)} /></td>
                  </tr>
                )
              })}
            </tbody>
          </table>
          {(effect?.breaches.length ?? 0) > 0 && (
            <>
              <h3 className="mt-3">Breaches</h3>
              <ul className="plain">
                {effect?.breaches.map((breach) => (
                  <li key={`${breach.account ?? ''} ${breach.product}`}>
                    <b className={breach.label === 'cleared' || breach.label === 'better' ? 'good' : 'over'}>{breach.label}</b>{' '}
                    {breach.label === 'cleared' ? `${breach.account ? props.nameOf(breach.account) : 'The pool'}, ${poolOf(breach.product)?.name ?? breach.product}` : breach.sentence}
                  </li>
                ))}
              </ul>
            </>
          )}
          {affected.size > 0 && (
            <p className="quiet small mt-2">Also affected, above and below: {[...affected].slice(0, 8).map(props.nameOf).join(', ')}{affected.size > 8 && ` and ${affected.size - 8} more`}.</p>
          )}
          {!may && <p className="over mt-2" role="alert">{reason(props)}</p>}
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-primary" onClick={() => setReview(false)}>Back to the draft</Button>
          <Button onClick={() => void apply()} disabled={!may || busy}>{busy ? 'Applying…' : 'Apply'}</Button>
        </Modal.Footer>
      </Modal>
    </section>
  )
}

function reason({ fault, error, effect }: DraftBarProps): string {
  if (fault) return fault
  if (error) return error instanceof Error ? error.message : 'That did not work.'
  const stopping = effect?.breaches.find((each) => each.hard && ['new', 'worse'].includes(each.label))
  return stopping ? `It cannot be applied: ${stopping.sentence}` : 'It cannot be applied: it would break a limit outside your branch.'
}

function how(terms: Change['was'], perUnit: number): string {
  const burst = terms.burst === null ? '' : `, burst ${units(terms.burst, perUnit)}`
  if (terms.at_cap === 'grace') return `grace, ${terms.grace_days ?? 0} days${burst}`
  return terms.at_cap === 'overage' ? `overage${burst}` : 'block'
}

function FromTo({ from, to }: { from: string; to: string }) {
  if (from === to) return <>{to}</>
  return <><s className="quiet">{from}</s> <b style={{ color: 'var(--acc)' }}>{to}</b></>
}
