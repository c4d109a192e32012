import { useQuery } from '@tanstack/react-query'
import { Button } from 'react-bootstrap'
import { Link } from 'react-router'
import { api, ApiError, take, type Schemas } from '../../api/client'
import { minus, money, signed } from '../../domain/money'
import { dayName } from '../../domain/months'
import { units, unitName } from '../../domain/units'
import { Trouble, Wait } from '../../components/States'
import { useDraft } from '../drafts/context'

/** The ways out of a shortfall ahead, compared by money and by people touched; a choice goes into the draft, for that day. */
export function PlanPanel({ pool, day, close }: { pool: Schemas['PoolBody']; day: string; close: () => void }) {
  const draft = useDraft()
  const found = useQuery({
    queryKey: ['pools', 'plan', pool.owner, pool.product, day],
    retry: false,
    queryFn: () =>
      take(
        api.GET('/api/pools/{owner}/{product}/plan', {
          params: { path: { owner: pool.owner, product: pool.product }, query: { day } },
        }),
      ),
  })
  if (found.error instanceof ApiError && found.error.status === 409)
    return <p className="quiet mt-2">{found.error.message}</p>
  if (found.isError) return <Trouble error={found.error} />
  if (!found.data) return <Wait what="the ways out" />
  const plan = found.data
  const of = (grains: number) => `${units(grains, pool.per_unit)} ${unitName(pool.unit, grains / pool.per_unit)}`
  return (
    <section className="plan" aria-label={`Plan for ${dayName(day)}`}>
      <div className="bar flat">
        <h3>
          {of(plan.short)} short from {dayName(day)}
          {plan.planned > 0 && (
            <span className="quiet small"> {of(plan.planned)} of it from allocations that begin until then</span>
          )}
        </h3>
        <span className="grow" />
        <Button size="sm" variant="outline-primary" onClick={close}>
          Close
        </Button>
      </div>
      <table className="ledger tight">
        <thead>
          <tr>
            <th>Way out</th>
            <th className="fig">Cost per month</th>
            <th className="fig">Against today</th>
            <th className="fig">People affected</th>
            <th className="fig">Still short</th>
            <th>
              <span className="visually-hidden">Choose</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {plan.options.map((option) => (
            <tr key={option.key}>
              <td>
                <b>{option.name}</b>
                <div className="quiet small">{option.says}</div>
              </td>
              <td className="fig">
                {Number(option.cost) ? (
                  <>
                    +{money(option.cost)} <span className="quiet small">{option.currency}</span>
                  </>
                ) : (
                  '–'
                )}
              </td>
              <td className="fig quiet">{signed(minus(option.cost, plan.ending_cost))}</td>
              <td className="fig">{option.people || '–'}</td>
              <td className={option.still_short ? 'fig over' : 'fig'}>
                {option.still_short ? units(option.still_short, pool.per_unit) : '–'}
              </td>
              <td className="fig">
                {option.changes.length > 0 && (
                  <Button
                    size="sm"
                    variant="outline-primary"
                    aria-label={`Add to draft: ${option.name}`}
                    onClick={() => {
                      draft.set(option.changes)
                      if (option.changes.some((each) => each.kind !== 'new lot')) draft.propose(day)
                      close()
                    }}
                  >
                    Add to draft
                  </Button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {Number(plan.ending_cost) > 0 && (
        <p className="quiet small mb-1">
          What ends costs {money(plan.ending_cost)} {pool.currency} a month today.
        </p>
      )}
      <p className="mb-1">
        <Link
          to={`/allocations?product=${encodeURIComponent(pool.product)}&pools=${encodeURIComponent(pool.product)}&account=${encodeURIComponent(pool.owner)}`}
        >
          Reduce by hand in the grid
        </Link>{' '}
        <span className="quiet small">change caps and reserves there; the draft says what stays short</span>
      </p>
      <p className="quiet small">
        What is renewed or bought begins on {dayName(day)}; for the rest the review proposes to apply it on that day.
      </p>
    </section>
  )
}
