import type { Effect } from '../../api/queries'
import { keyOf, nothing, slotOf, type Change, type Changes, type Terms } from '../../domain/draft'
import { dayName } from '../../domain/months'
import { decimal, units, unitName } from '../../domain/units'
import type { Names } from './names'

interface ChangesTableProps {
  changes: Changes
  effect: Effect | undefined
  names: Names
  forget?: (slots: string[]) => void
}

/** What a draft holds, line by line: what it was, what it shall be, and what is wrong with it. */
export function ChangesTable({ changes, effect, names, forget }: ChangesTableProps) {
  return (
    <table className="ledger tight">
      <thead><tr><th>Account</th><th>Pool</th><th>Change</th>{forget && <th><span className="visually-hidden">Take out</span></th>}</tr></thead>
      <tbody>
        {Object.values(changes).map((change) => {
          const faults = effect?.faults.filter((each) => each.kind === change.kind && each.key === keyOf(change)) ?? []
          return (
            <tr key={slotOf(change)}>
              <td>{names.account(change.kind === 'allocation' || change.kind === 'move' ? change.account : change.kind === 'new account' ? change.code : change.owner)}</td>
              <td>{'product' in change && (names.pool(change.product)?.name ?? change.product)}</td>
              <td>
                <ChangeText change={change} names={names} />
                {faults.map((each) => <div className="over small" key={each.detail}>{each.detail}</div>)}
              </td>
              {forget && <td className="fig"><button type="button" className="btn btn-link btn-sm p-0" onClick={() => forget([slotOf(change)])}>Take out</button></td>}
            </tr>
          )
        })}
      </tbody>
    </table>
  )
}

function ChangeText({ change, names }: { change: Change; names: Names }) {
  if (change.kind === 'allocation') {
    const pool = names.pool(change.product)
    return <TermsChange was={change.was} now={change.terms} perUnit={pool?.per_unit ?? 1} unit={pool?.unit ?? ''} />
  }
  if (change.kind === 'new lot') {
    const pool = names.pool(change.product)
    const per = pool?.per_unit ?? 1
    return (
      <>
        {change.renews ? `renew ${change.renews} as` : 'buy'} <b>{change.reference}</b>: {units(change.quantity, per)} {unitName(pool?.unit ?? 'unit', change.quantity / per)} at{' '}
        {decimal(change.unit_cost, 2)} {change.currency} a month, {dayName(change.first_day)} to {change.last_day ? dayName(change.last_day) : 'open'}
      </>
    )
  }
  if (change.kind === 'lot end') {
    if (change.last_day !== null && change.last_day < change.first_day) return <>take back lot <b>{change.reference}</b></>
    return <>let lot <b>{change.reference}</b> end <FromTo from={change.was ? dayName(change.was) : 'open'} to={change.last_day ? dayName(change.last_day) : 'open'} /></>
  }
  if (change.kind === 'move') return <>move below <FromTo from={change.was ? names.account(change.was) : ''} to={names.account(change.parent)} /></>
  return <>create {change.account_kind} <b>{change.name}</b> below {names.account(change.parent)}</>
}

/** Only what differs between two sets of terms. */
export function TermsChange({ was, now, perUnit, unit }: { was: Terms | null; now: Terms | null; perUnit: number; unit: string }) {
  if (now === null) return <>no allocation any more</>
  const before = was ?? nothing
  const quantity = (value: number | null) => (value === null ? 'none' : units(value, perUnit))
  const parts: React.ReactNode[] = []
  const add = (label: string, from: string, to: string) => {
    if (from !== to) parts.push(<span className="me-3" key={label}>{label} <FromTo from={from} to={to} /></span>)
  }
  add('reserve', quantity(before.reserve), quantity(now.reserve))
  add('cap', quantity(before.cap), quantity(now.cap))
  add('at the cap', how(before, perUnit), how(now, perUnit))
  return <>{parts.length ? parts : 'the same'} {parts.length > 0 && <span className="quiet small">{unitName(unit, 2)}</span>}</>
}

export function how(terms: Terms, perUnit: number): string {
  const burst = terms.burst === null ? '' : `, burst ${units(terms.burst, perUnit)}`
  if (terms.at_cap === 'grace') return `grace, ${terms.grace_days ?? 0} days${burst}`
  return terms.at_cap === 'overage' ? `overage${burst}` : 'block'
}

export function FromTo({ from, to }: { from: string; to: string }) {
  if (from === to) return <>{to}</>
  return <><s className="quiet">{from}</s> <b style={{ color: 'var(--acc)' }}>{to}</b></>
}
