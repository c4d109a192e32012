import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { api, take } from '../../api/client'
import { budget as budgetQuery, useCan } from '../../api/queries'
import { useAction } from '../../api/useAction'
import { Field, isAbout, text } from '../../components/Field'
import { useOutcome } from '../../components/Outcome'
import { minus, money } from '../../domain/money'

/** What an account may cost a month, and how far that is spent. */
export function BudgetSection({ account }: { account: string }) {
  const found = useQuery(budgetQuery(account)).data
  const [editing, setEditing] = useState(false)
  const may = useCan('accounts.change')
  const outcome = useOutcome()
  const { run, busy, error, trouble } = useAction('budgets', 'log')
  if (!found || (!found.currency && found.amount === null)) return null
  const put = (amount: string | null, said: string) =>
    run(async () => {
      await take(api.PUT('/api/budgets/{account}', { params: { path: { account } }, body: { amount } }))
      setEditing(false)
      outcome(said)
    })
  const { amount, currency, so_far, likely } = found
  const state =
    amount !== null && so_far !== null && Number(so_far) > Number(amount)
      ? 'passed'
      : amount !== null && likely !== null && Number(likely) > Number(amount)
        ? 'likely'
        : ''
  return (
    <section aria-label="Budget">
      <h2 className="sub">Budget</h2>
      <dl className="figures">
        <dt>A month, before tax</dt>
        <dd>{amount === null ? <span className="quiet">none</span> : `${money(amount)} ${currency}`}</dd>
        {so_far !== null && (
          <>
            <dt>This month so far</dt>
            <dd className={state === 'passed' ? 'over' : undefined}>
              {money(so_far)} {currency}
            </dd>
          </>
        )}
        {likely !== null && (
          <>
            <dt>Likely at its end</dt>
            <dd className={state ? (state === 'passed' ? 'over' : 'near') : undefined}>
              {money(likely)} {currency}
            </dd>
          </>
        )}
      </dl>
      {state && amount !== null && (
        <p className={state === 'passed' ? 'over mb-2' : 'near mb-2'}>
          {state === 'passed'
            ? `▲ Passed by ${money(minus(so_far ?? '0', amount))} ${currency}.`
            : `△ Likely to pass it by ${money(minus(likely ?? '0', amount))} ${currency}.`}
        </p>
      )}
      {editing ? (
        <Form
          onSubmit={(event) => {
            event.preventDefault()
            const typed = text(new FormData(event.currentTarget), 'budget')
            void put(typed, `${found.name}: budget set to ${money(typed)} ${currency} a month.`)
          }}
        >
          <Field
            name="budget"
            label={`A month before tax, ${currency}`}
            inputMode="decimal"
            pattern="\d+(\.\d+)?"
            title="Digits, with a point before decimals"
            required
            autoFocus
            defaultValue={amount ?? ''}
            error={error}
            about="amount"
          />
          <div className="d-flex gap-2 mt-2">
            <Button type="submit" size="sm" variant="outline-primary" disabled={busy}>
              Save
            </Button>
            <Button size="sm" variant="link" onClick={() => setEditing(false)}>
              Cancel
            </Button>
          </div>
        </Form>
      ) : (
        may &&
        found.may_set && (
          <>
            <Button size="sm" variant="outline-primary" onClick={() => setEditing(true)}>
              {amount === null ? 'Set budget' : 'Change budget'}
            </Button>{' '}
            {amount !== null && (
              <Button
                size="sm"
                variant="link"
                disabled={busy}
                onClick={() => void put(null, `${found.name}: budget removed.`)}
              >
                Remove
              </Button>
            )}
          </>
        )
      )}
      {trouble && !isAbout(error, 'amount') && (
        <p className="over small" role="alert">
          {trouble}
        </p>
      )}
    </section>
  )
}
