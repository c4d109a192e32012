import { useQuery } from '@tanstack/react-query'
import { Fragment, useState } from 'react'
import { Link } from 'react-router'
import { api, take } from '../../api/client'
import { me, type Today } from '../../api/queries'
import { money, sum } from '../../domain/money'
import { monthWord } from '../../domain/months'
import { tinyUnits, whole } from '../../domain/units'
import { First, FIRST } from '../../components/First'
import { cellAddress, of } from './words'

/** Seats of people who do not use them, and what they cost. */
export function Idle({ day }: { day: Today }) {
  if (!day.idle.length) return null
  return (
    <>
      <h2 className="section">
        Unused stock<span>{day.idle_count}</span>
      </h2>
      <First
        of={day.idle}
        show={(each) => (
          <article className="item" key={`${each.product} ${each.owner}`}>
            <div className="when">
              {money(sum([each.free_cost, each.promised_cost]))}
              <span>{each.currency} a month</span>
            </div>
            <div>
              <b>
                {each.product_name}: {of(each, each.free)} held by nobody
              </b>
              <p>
                {money(each.free_cost)} {each.currency} a month;{' '}
                {each.promised
                  ? `another ${of(each, each.promised)} reserved and unused, ${money(each.promised_cost)} ${each.currency}`
                  : 'everything reserved is in use'}
                . {of(each, each.supply)} bought.
              </p>
            </div>
            <div className="acts">
              <Link
                className="btn btn-outline-primary"
                to={`${cellAddress(each.owner, each.product, each.measure)}&show=idle`}
              >
                Holders of unused
              </Link>
            </div>
          </article>
        )}
      />
    </>
  )
}

/** Seats of people who have not been seen for long, and who waits for one. */
function Unseen() {
  const unseen = useQuery({
    queryKey: ['reclaim', 'unseen'],
    queryFn: () => take(api.GET('/api/reclaim/unseen')),
    staleTime: 300_000,
  }).data
  const waiting =
    useQuery({
      queryKey: ['entitlements', 'queue', 'count'],
      queryFn: () => take(api.GET('/api/entitlements/queue', { params: { query: { limit: 0 } } })),
      staleTime: 60_000,
    }).data?.total ?? 0
  if (!unseen?.seats && !waiting) return null
  return (
    <>
      <h2 className="mt-3">Idle seats</h2>
      <dl className="figures">
        {unseen && unseen.seats > 0 && (
          <>
            <dt>
              <Link to={`/people?seen=${unseen.days}&status=active`}>
                Of {whole(unseen.people)} people not seen for {unseen.days} days
              </Link>
            </dt>
            <dd>
              {whole(unseen.seats)} {unseen.seats === 1 ? 'seat' : 'seats'}
            </dd>
          </>
        )}
        {unseen?.cost.map((each) => [
          <dt key={each.currency}>Cost per month</dt>,
          <dd key={`${each.currency} figure`}>
            {money(each.amount)} {each.currency}
          </dd>,
        ])}
        {waiting > 0 && (
          <>
            <dt>
              <Link to="/queue">People on the waiting list</Link>
            </dt>
            <dd>{waiting}</dd>
          </>
        )}
      </dl>
      <p className="small mb-0">
        <Link to="/idle">Reclaim idle seats</Link>
      </p>
    </>
  )
}

/** Free stock by month, and what ends or falls short ahead. */
export function Outlook({ day }: { day: Today }) {
  const top = useQuery(me).data?.running.account
  const [every, setEvery] = useState(false)
  const months = day.outlook[0]?.months ?? []
  return (
    <>
      {months.length > 0 && (
        <>
          <h2>Free stock ahead</h2>
          <p className="quiet small mb-1">Not held, by month; storage in GB</p>
          <table className="outlook">
            <thead>
              <tr>
                <td style={{ background: 'none' }} />
                {months.map((month, place) => (
                  <th key={month} scope="col">
                    {place === 0 ? 'now' : monthWord(month).slice(0, 3)}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {(every ? day.outlook : day.outlook.slice(0, FIRST)).map((each) => (
                <tr key={`${each.product} ${each.owner}`}>
                  <th scope="row" title={`${each.product_name}, owned by ${each.owner_name}`}>
                    {each.product_name}
                    {each.owner === top ? '' : ` · ${each.owner_name}`}
                  </th>
                  {each.free.map((free, place) => (
                    <td key={months[place]} className={free < 0 ? 'short' : undefined}>
                      {tinyUnits(Math.abs(free), each.per_unit)}
                      {free < 0 && <span className="visually-hidden"> short</span>}
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
          {!every && day.outlook.length > FIRST && (
            <button type="button" className="btn btn-link btn-sm p-0" onClick={() => setEvery(true)}>
              Show {day.outlook.length - FIRST} more pools
            </button>
          )}
          {every && day.outlook_count > day.outlook.length && (
            <Link className="small" to="/pools">
              All {whole(day.outlook_count)} pools
            </Link>
          )}
          <p className="small">
            <span className="over" aria-hidden="true">
              ■
            </span>{' '}
            <span className="quiet">short, if nothing is renewed and use stays the same</span>
          </p>
        </>
      )}
      <Unseen />
      <h2 className="mt-3">Cost of unused stock</h2>
      <dl className="figures">
        {day.idle_costs.map(({ currency, free, promised }) => (
          <Fragment key={currency}>
            <dt>Unallocated, per month</dt>
            <dd>
              {money(free)} {currency}
            </dd>
            <dt>Reserved, unused</dt>
            <dd>
              {money(promised)} {currency}
            </dd>
          </Fragment>
        ))}
      </dl>
      {day.idle.length === 0 && <p className="quiet small">Everything bought is in use.</p>}
    </>
  )
}
