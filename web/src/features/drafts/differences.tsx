import { useQuery } from '@tanstack/react-query'
import { productsInSight } from '../../api/queries'
import { nothing, type Terms } from '../../domain/draft'
import { units, unitName } from '../../domain/units'

/** Only what differs between two sets of terms. */
export function TermsChange(props: { was: Terms | null; now: Terms | null; perUnit: number; unit: string }) {
  if (props.now === null) return <>no allocation any more</>
  return <TermsDiffer {...props} now={props.now} />
}

function TermsDiffer({ was, now, perUnit, unit }: { was: Terms | null; now: Terms; perUnit: number; unit: string }) {
  const before = was ?? nothing
  const products = useQuery({ ...productsInSight, enabled: before.per !== null || now.per !== null }).data
  const productName = (code: string) => products?.find((each) => each.product === code)?.name ?? code
  const quantity = (value: number | null) => (value === null ? 'none' : units(value, perUnit))
  const parts: React.ReactNode[] = []
  const add = (label: string, from: string, to: string) => {
    if (from !== to)
      parts.push(
        <span className="me-3" key={label}>
          {label} <FromTo from={from} to={to} />
        </span>,
      )
  }
  add('reserve', quantity(before.reserve), quantity(now.reserve))
  const cap = (terms: Terms) =>
    terms.per === null
      ? quantity(terms.cap)
      : `${quantity(terms.cap ?? 0)} and ${quantity(terms.each ?? 0)} a seat of ${productName(terms.per)}`
  add('cap', cap(before), cap(now))
  add('at the cap', how(before, perUnit), how(now, perUnit))
  return (
    <>
      {parts.length ? parts : 'the same'} {parts.length > 0 && <span className="quiet small">{unitName(unit, 2)}</span>}
    </>
  )
}

export function how(terms: Terms, perUnit: number): string {
  const burst = terms.burst === null ? '' : `, burst ${units(terms.burst, perUnit)}`
  if (terms.at_cap === 'grace') return `grace, ${terms.grace_days ?? 0} days${burst}`
  return terms.at_cap === 'overage' ? `overage${burst}` : 'block'
}

export function FromTo({ from, to }: { from: string; to: string }) {
  if (from === to) return <>{to}</>
  return (
    <>
      <s className="quiet">{from}</s> <b style={{ color: 'var(--acc)' }}>{to}</b>
    </>
  )
}
