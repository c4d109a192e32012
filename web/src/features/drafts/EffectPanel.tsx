import { useQuery } from '@tanstack/react-query'
import { me, type Effect } from '../../api/queries'
import { dayName, dayOf } from '../../domain/months'
import { minus, money } from '../../domain/money'
import { units, unitName } from '../../domain/units'
import type { Names } from './names'

const MOST = 12
const TONES: Record<string, string> = { cleared: 'good', better: 'good', same: 'near' }

/** What a draft would do: breaches, stock, money, and who is told; ``begins``: when the first of its purchases does. */
export function EffectPanel({
  effect,
  names,
  begins = null,
}: {
  effect: Effect
  names: Names
  begins?: string | null
}) {
  const now = useQuery(me).data?.now
  const until = begins && now && begins > dayOf(now) ? ` before ${dayName(begins)}` : ''
  const touched = effect.pools.filter((pool) => pool.free_before !== pool.free_after)
  return (
    <div className="effect">
      <section aria-label="Breaches">
        <h3>Breaches</h3>
        {effect.breaches.length === 0 ? (
          <p className="quiet">None new, none cleared.</p>
        ) : (
          <ul className="plain">
            {effect.breaches.slice(0, MOST).map((breach) => (
              <li key={`${breach.account ?? breach.owner} ${breach.product} ${breach.day ?? ''}`}>
                <b className={TONES[breach.label] ?? 'over'}>{breach.label === 'same' ? 'still' : breach.label}</b>{' '}
                {breach.sentence}
              </li>
            ))}
          </ul>
        )}
        {effect.breaches.length > MOST && <p className="quiet small">and {effect.breaches.length - MOST} more.</p>}
      </section>
      <section aria-label="Stock">
        <h3>Free stock</h3>
        {touched.length === 0 ? (
          <p className="quiet">No change in any pool{until}.</p>
        ) : (
          <table className="ledger tight">
            <tbody>
              {touched.map((each) => {
                const pool = names.pool(each.product)
                const per = pool?.per_unit ?? 1
                return (
                  <tr key={`${each.owner} ${each.product}`}>
                    <td>
                      {pool?.name ?? each.product} <span className="quiet small">{names.account(each.owner)}</span>
                    </td>
                    <td className="fig quiet">{units(each.free_before, per)}</td>
                    <td className="fig">
                      <b className={each.free_after < 0 ? 'over' : undefined}>{units(each.free_after, per)}</b>{' '}
                      {unitName(pool?.unit ?? '', 2)}
                    </td>
                  </tr>
                )
              })}
            </tbody>
          </table>
        )}
      </section>
      <section aria-label="Money">
        <h3>A full month</h3>
        {effect.money.length === 0 ? (
          <p className="quiet">No change{until}.</p>
        ) : (
          <table className="ledger tight">
            <thead>
              <tr>
                <th>Account</th>
                <th className="fig">Charged</th>
                <th className="fig">Cost</th>
              </tr>
            </thead>
            <tbody>
              {effect.money.slice(0, MOST).map((each) => (
                <tr key={`${each.account} ${each.currency}`}>
                  <td>{names.account(each.account)}</td>
                  <td className="fig">
                    <Change before={each.charged_before} after={each.charged_after} currency={each.currency} />
                  </td>
                  <td className="fig">
                    {each.cost_before === null || each.cost_after === null ? (
                      ''
                    ) : (
                      <Change before={each.cost_before} after={each.cost_after} currency={each.currency} />
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
        {effect.money.length > MOST && <p className="quiet small">and {effect.money.length - MOST} more accounts.</p>}
      </section>
      {effect.notifies.length > 0 && (
        <section aria-label="Notifies">
          <h3>Notifies</h3>
          <p>{effect.notifies.map((each) => `${each.name} (${each.account})`).join(', ')}</p>
        </section>
      )}
    </div>
  )
}

function Change({ before, after, currency }: { before: string; after: string; currency: string }) {
  const by = minus(after, before)
  if (/^-?0(\.0+)?$/.test(by)) return <span className="quiet">–</span>
  return (
    <span title={`${money(before)} → ${money(after)} ${currency}`}>
      <b>
        {by.startsWith('-') ? '' : '+'}
        {money(by)}
      </b>{' '}
      <span className="quiet small">{currency}</span>
    </span>
  )
}
