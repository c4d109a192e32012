import { api, take } from '../../api/client'
import { useAction } from '../../api/useAction'
import { Field, isAbout, text } from '../../components/Field'
import { FormDialog } from '../../components/FormDialog'
import { money } from '../../domain/money'
import { CHANGES, type Receivable } from './queries'

/** Record what was paid for a statement, or paid back for a credit note. */
export function PaymentDialog({
  seller,
  row,
  today,
  done,
  close,
}: {
  seller: string
  row: Receivable
  today: string
  done: (said: string) => void
  close: () => void
}) {
  const { run, busy, error, trouble } = useAction(...CHANGES)
  const back = Number(row.total) < 0
  const record = (form: FormData) =>
    run(async () => {
      const amount = text(form, 'amount')
      const signed = back && !amount.startsWith('-') ? `-${amount}` : amount
      const payment = { number: row.number, amount: signed, day: text(form, 'day'), note: text(form, 'note') }
      await take(
        api.POST('/api/receivables/{seller}/payments', {
          params: { path: { seller } },
          body: { payments: [payment] },
        }),
      )
      done(`${money(signed)} ${row.currency} recorded for ${row.number} of ${row.buyer_name}.`)
    })
  const told = ['amount', 'day'].some((name) => isAbout(error, `payments.0.${name}`))
  return (
    <FormDialog
      id="payment"
      title="Record payment"
      submit="Record payment"
      busy={busy}
      trouble={!told && trouble}
      send={(form) => void record(form)}
      close={close}
    >
      <p className="mb-2">
        {row.number} of {row.buyer_name}: {money(row.open)} {row.currency} {back ? 'to pay back' : 'open'}.
      </p>
      <div className="d-flex gap-2 mb-2">
        <Field
          name="amount"
          label={`Amount, ${row.currency}`}
          inputMode="decimal"
          pattern="-?\d+(\.\d+)?"
          title="Digits, with a point before decimals"
          required
          autoFocus
          defaultValue={row.open.replace('-', '')}
          error={error}
          about="payments.0.amount"
        />
        <Field
          name="day"
          label={back ? 'Paid back on' : 'Paid on'}
          type="date"
          required
          max={today}
          defaultValue={today}
          error={error}
          about="payments.0.day"
        />
      </div>
      <Field name="note" label="Note" maxLength={200} placeholder="For your own use" />
    </FormDialog>
  )
}
