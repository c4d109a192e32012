import { Button } from 'react-bootstrap'
import type { Effect } from '../../api/queries'
import { allocationSlot, type AllocationChange } from '../../domain/draft'
import { useDraft } from './context'
import type { Names } from './names'
import { TermsChange } from './differences'

/** Allocations somebody else changed meanwhile, side by side: yours is kept or theirs is taken, nothing is lost by itself. */
export function Clashes({ effect, names }: { effect: Effect; names: Names }) {
  const draft = useDraft()
  if (effect.clashes.length === 0) return null
  return (
    <section aria-label="Changed meanwhile" className="mb-3">
      <h3>Changed by someone else meanwhile</h3>
      <table className="ledger tight">
        <thead>
          <tr>
            <th>Allocation</th>
            <th>Theirs</th>
            <th>Yours</th>
            <th>
              <span className="visually-hidden">Choose</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {effect.clashes.map((clash) => {
            const pool = names.pool(clash.product)
            const kept: AllocationChange = {
              kind: 'allocation',
              until: null,
              account: clash.account,
              product: clash.product,
              terms: clash.mine,
              seen: clash.theirs_id,
              was: clash.theirs,
            }
            return (
              <tr key={`${clash.account} ${clash.product}`}>
                <td>
                  {names.account(clash.account)}
                  <div className="quiet small">{pool?.name ?? clash.product}</div>
                </td>
                <td>
                  <TermsChange
                    was={clash.was}
                    now={clash.theirs}
                    perUnit={pool?.per_unit ?? 1}
                    unit={pool?.unit ?? ''}
                  />
                  <div className="quiet small">{clash.by ?? 'somebody'}</div>
                </td>
                <td>
                  <TermsChange was={clash.was} now={clash.mine} perUnit={pool?.per_unit ?? 1} unit={pool?.unit ?? ''} />
                </td>
                <td className="fig text-nowrap">
                  <Button size="sm" variant="outline-primary" onClick={() => draft.set([kept])}>
                    Keep yours
                  </Button>{' '}
                  <Button
                    size="sm"
                    variant="outline-primary"
                    onClick={() => draft.forget([allocationSlot(clash.account, clash.product)])}
                  >
                    Take theirs
                  </Button>
                </td>
              </tr>
            )
          })}
        </tbody>
      </table>
    </section>
  )
}
