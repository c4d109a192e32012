import { lazy, Suspense, useMemo, useState } from 'react'
import { Button } from 'react-bootstrap'
import { useCommands, type Command } from '../../commands/registry'
import { api, messageOf, take } from '../../api/client'
import { minus, money, sum } from '../../domain/money'
import { units, unitName } from '../../domain/units'
import type { Effect } from '../../api/queries'
import { useOutcome } from '../../components/Outcome'
import { useDraft } from './context'
import { useNames } from './names'
import { monthlyCosts } from './Purchases'

const Review = lazy(() => import('./Review').then((part) => ({ default: part.Review })))

/** The open draft, always in view: what it would do, and the way to review and apply it. */
export function DraftBar() {
  const draft = useDraft()
  const names = useNames()
  const [review, setReview] = useState(false)
  const { undo, redo, count, now } = draft
  const outcome = useOutcome()
  const commands = useMemo<Command[]>(
    () => [
      { id: 'undo', name: 'Undo', keys: 'Ctrl Z', group: 'Draft', run: undo },
      { id: 'redo', name: 'Redo', keys: 'Ctrl Y', group: 'Draft', run: redo },
      {
        id: 'review',
        name: 'Review the draft',
        keys: 'Ctrl Enter',
        group: 'Draft',
        run: () => {
          if (Object.keys(now()).length) setReview(true)
        },
      },
    ],
    [undo, redo, now],
  )
  useCommands(commands)
  // A draft that is gone takes its review along: the next one is not to open by itself.
  if (count === 0 && review) setReview(false)
  if (count === 0) return null
  const discard = () => {
    const had = Object.values(draft.changes)
    void draft
      .settle((id) => take(api.POST('/api/drafts/{draft_id}/discard', { params: { path: { draft_id: id } } })), true)
      .then(() =>
        outcome(`Draft discarded: ${had.length} ${had.length === 1 ? 'change' : 'changes'}.`, {
          label: 'Undo',
          run: () => draft.set(had),
        }),
      )
      .catch((trouble: unknown) => outcome(`Not discarded: ${messageOf(trouble)}`))
  }
  return (
    <section className="draftbar" aria-label="Draft">
      <span>
        <b>{draft.facts?.name ?? 'Draft'}</b> {count} {count === 1 ? 'change' : 'changes'}
      </span>
      <span className="said" aria-live="polite" aria-busy={draft.busy}>
        {draft.error ? (
          <span className="over">{messageOf(draft.error)}</span>
        ) : draft.effect ? (
          <InShort effect={draft.effect} />
        ) : (
          'Calculating the effect…'
        )}
      </span>
      <Button variant="outline-primary" onClick={discard}>
        Discard
      </Button>
      <Button onClick={() => setReview(true)}>Review and apply</Button>
      {review && (
        <Suspense fallback={null}>
          <Review names={names} close={() => setReview(false)} />
        </Suspense>
      )}
    </section>
  )

  function InShort({ effect }: { effect: Effect }) {
    const labelled = (...labels: string[]) => effect.breaches.filter((each) => labels.includes(each.label)).length
    const bad = labelled('new', 'worse')
    const fault = effect.faults[0]
    if (fault)
      return (
        <span className="over">
          {fault.detail}
          {effect.faults.length > 1 && ` (and ${effect.faults.length - 1} more)`}
        </span>
      )
    if (effect.clashes.length)
      return (
        <span className="over">
          {effect.clashes.length} changed by someone else meanwhile. Review to keep yours or take theirs.
        </span>
      )
    const touched = effect.pools.filter((pool) => pool.free_before !== pool.free_after)
    const bought = [...monthlyCosts(draft.changes, (product) => names.pool(product)?.per_unit ?? 1)]
    const currencies = [...new Set(effect.money.map((each) => each.currency))]
    return (
      <>
        <span>
          <b>{labelled('cleared')}</b> {labelled('cleared') === 1 ? 'breach' : 'breaches'} cleared,{' '}
          <b className={bad ? 'over' : undefined}>{bad}</b> new or worse
        </span>
        {touched.slice(0, 3).map((each) => {
          const pool = names.pool(each.product)
          return (
            pool && (
              <span key={`${each.owner} ${each.product}`}>
                {pool.name}{' '}
                <b className={each.free_after < 0 ? 'over' : undefined}>{units(each.free_after, pool.per_unit)}</b>{' '}
                {unitName(pool.unit, 2)} free
              </span>
            )
          )
        })}
        {bought.slice(0, 1).map(([currency, cost]) => (
          <span key={`bought ${currency}`}>
            purchases <b>{money(cost)}</b> {currency} a month
          </span>
        ))}
        {currencies.slice(0, 1).map((currency) => {
          const mine = effect.money.filter((each) => each.currency === currency)
          const charged = minus(
            sum(mine.map((each) => each.charged_after)),
            sum(mine.map((each) => each.charged_before)),
          )
          if (bought.length > 0 && !Number(charged)) return null
          return (
            <span key={currency}>
              charges{' '}
              <b>
                {charged.startsWith('-') ? '' : '+'}
                {money(charged)}
              </b>{' '}
              {currency} a month
            </span>
          )
        })}
        {effect.notifies.length > 0 && (
          <span>
            notifies {effect.notifies.length === 1 ? effect.notifies[0]?.name : `${effect.notifies.length} people`}
          </span>
        )}
      </>
    )
  }
}
