import { useQuery } from '@tanstack/react-query'
import type { Effect } from '../../api/queries'
import {
  concerns,
  keyOf,
  slotOf,
  type Change,
  type Changes,
  type LimitTerms,
  type PersonLimit,
  type StatusChange,
} from '../../domain/draft'
import { dayName } from '../../domain/months'
import { besides, stepWords } from '../../domain/prices'
import { decimal, units, unitName, whole } from '../../domain/units'
import { groupsOf, limitPreview } from '../storage/limits'
import { FromTo, TermsChange } from './differences'
import type { Names } from './names'

interface ChangesTableProps {
  changes: Changes
  effect: Effect | undefined
  names: Names
  /** What people among the changes are called, by username. */
  people: Record<string, string>
  forget?: (slots: string[]) => void
}

/** What a draft holds, line by line: what it was, what it shall be, and what is wrong with it. */
export function ChangesTable({ changes, effect, names: known, people, forget }: ChangesTableProps) {
  // Accounts that the draft creates have their names from it.
  const names: Names = {
    ...known,
    account: (code) => {
      const made = changes[`new account\n${code}`]
      return made?.kind === 'new account' ? made.name : known.account(code)
    },
  }
  return (
    <table className="ledger tight">
      <thead>
        <tr>
          <th>Account</th>
          <th>Pool</th>
          <th>Change</th>
          {forget && (
            <th>
              <span className="visually-hidden">Remove</span>
            </th>
          )}
        </tr>
      </thead>
      <tbody>
        {Object.values(changes).map((change) => {
          const faults = effect?.faults.filter((each) => each.kind === change.kind && each.key === keyOf(change)) ?? []
          return (
            <tr key={slotOf(change)}>
              <td>{names.account(concerns(change))}</td>
              <td className="text-nowrap">
                {'product' in change && (names.pool(change.product)?.name ?? change.product)}
              </td>
              <td>
                <ChangeText change={change} names={names} people={people} few={Object.keys(changes).length <= FEW} />
                {faults.map((each) => (
                  <div className="over small" key={each.detail}>
                    {each.detail}
                  </div>
                ))}
              </td>
              {forget && (
                <td className="fig">
                  <button type="button" className="btn btn-link btn-sm p-0" onClick={() => forget([slotOf(change)])}>
                    Remove
                  </button>
                </td>
              )}
            </tr>
          )
        })}
      </tbody>
    </table>
  )
}

/** Of so many changes at most it is asked whom each limit would put over. */
const FEW = 30

interface ChangeTextProps {
  change: Change
  names: Names
  people: Record<string, string>
  few: boolean
}

function ChangeText({ change, names, people, few }: ChangeTextProps) {
  const called = (username: string) => people[username] ?? username
  if (change.kind === 'allocation') {
    const pool = names.pool(change.product)
    return (
      <>
        <TermsChange was={change.was} now={change.terms} perUnit={pool?.per_unit ?? 1} unit={pool?.unit ?? ''} />
        {change.until && (
          <>
            {' '}
            last day{' '}
            <FromTo
              from={change.was_until?.last_day ? dayName(change.was_until.last_day) : 'open'}
              to={change.until.last_day ? dayName(change.until.last_day) : 'open'}
            />
          </>
        )}
      </>
    )
  }
  if (change.kind === 'new lot') {
    const pool = names.pool(change.product)
    const per = pool?.per_unit ?? 1
    return (
      <>
        {change.renews ? `renew ${change.renews} as` : 'buy'} <b>{change.reference}</b>: {units(change.quantity, per)}{' '}
        {unitName(pool?.unit ?? 'unit', change.quantity / per)} at {decimal(change.unit_cost, 2)} {change.currency} a
        month, {dayName(change.first_day)} to {change.last_day ? dayName(change.last_day) : 'open'}
      </>
    )
  }
  if (change.kind === 'lot end') {
    if (change.last_day !== null && change.last_day < change.first_day)
      return (
        <>
          take back lot <b>{change.reference}</b>
        </>
      )
    return (
      <>
        let lot <b>{change.reference}</b> end{' '}
        <FromTo
          from={change.was ? dayName(change.was) : 'open'}
          to={change.last_day ? dayName(change.last_day) : 'open'}
        />
      </>
    )
  }
  if (change.kind === 'move')
    return (
      <>
        move below <FromTo from={change.was ? names.account(change.was) : ''} to={names.account(change.parent)} />
      </>
    )
  if (change.kind === 'status') return <StatusText change={change} />
  if (change.kind === 'person limit')
    return <LimitText change={change} perUnit={names.pool(change.product)?.per_unit ?? 1} counts={few} />
  if (change.kind === 'folder')
    return (
      <>
        folder <b>{change.folder}</b> <FromTo from={change.was} to={change.state} />{' '}
        <span className="quiet small">
          {change.state === 'deleted'
            ? 'with what it stores, after 30 days, unless it is opened before'
            : change.state === 'archived'
              ? 'nothing more is written to it'
              : ''}
        </span>
      </>
    )
  if (change.kind === 'units') {
    const unit = names.pool(change.product)?.unit ?? 'unit'
    return (
      <>
        {change.give ? 'give' : 'take back'}{' '}
        <b>
          {change.subjects.length} {unitName(unit, change.subjects.length)}
        </b>{' '}
        {change.give ? 'to' : 'from'}{' '}
        <span className="quiet small" title={change.subjects.map(called).join(', ')}>
          {change.subjects.slice(0, 8).map(called).join(', ')}
          {change.subjects.length > 8 && ` and ${change.subjects.length - 8} more`}
        </span>
      </>
    )
  }
  if (change.kind === 'rate') {
    if (change.gone) return <>withdraw the price from {dayName(change.first_day)}</>
    return (
      <>
        charge {change.buyer === null ? 'all buyers' : 'a rate of its own'} from {dayName(change.first_day)}:{' '}
        {change.markup ? (
          <b>its cost + {change.markup} %</b>
        ) : (
          <>
            <b>{stepWords(change.tiers)}</b> {change.currency} a {names.pool(change.product)?.unit ?? 'unit'} and month
          </>
        )}
        <span className="quiet small"> {besides(change)}</span>
      </>
    )
  }
  return (
    <>
      create {change.account_kind} <b>{change.name}</b> below {names.account(change.parent)}
    </>
  )
}

/** A limit per person, what happens beyond it, and whom it would put over. */
function LimitText({ change, perUnit, counts }: { change: PersonLimit; perUnit: number; counts: boolean }) {
  const { account, group, product, terms, was } = change
  const groups = useQuery({ ...groupsOf(account), enabled: group !== null }).data
  const preview = useQuery({
    ...limitPreview({ product, account, group, limit: terms?.grains ?? null }),
    enabled: counts,
  }).data
  const gb = (limit: LimitTerms | null) => (limit === null ? 'none' : `${units(limit.grains, perUnit)} GB`)
  const then = (limit: LimitTerms) =>
    `told from ${limit.tell_at} %` +
    { tell: '', stop: ', then stopped', grace: `, stopped after ${limit.grace_days ?? 0} days over it` }[limit.at_limit]
  return (
    <>
      limit per person
      {group !== null && ` of group ${groups?.find((each) => each.code === group)?.name ?? group}`}{' '}
      <FromTo from={gb(was)} to={gb(terms)} />
      {terms !== null && (
        <>
          , <FromTo from={was === null ? then(terms) : then(was)} to={then(terms)} />
        </>
      )}
      {preview && (
        <div className="quiet small">
          Of {whole(preview.people)} {preview.people === 1 ? 'person' : 'people'}, {whole(preview.over)} over and{' '}
          {whole(preview.near)} near; now {whole(preview.over_now)} over and {whole(preview.near_now)} near.
        </div>
      )}
    </>
  )
}

function StatusText({ change }: { change: StatusChange }) {
  const word = (status: string, charged: boolean) =>
    status === 'suspended' ? `suspended, ${charged ? 'charged' : 'not charged'}` : status
  return (
    <>
      <FromTo from={change.was ? word(change.was, change.was_charged) : ''} to={word(change.status, change.charged)} />{' '}
      <span className="quiet small">
        {change.status === 'suspended'
          ? 'what it has stays, nothing new is given out'
          : change.status === 'closed'
            ? 'all it has is released, its allocations end; a last statement remains'
            : ''}
      </span>
    </>
  )
}
