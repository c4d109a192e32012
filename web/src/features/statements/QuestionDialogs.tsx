import { Form } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { useCan } from '../../api/queries'
import { useAction } from '../../api/useAction'
import { Field, isAbout, text } from '../../components/Field'
import { FormDialog } from '../../components/FormDialog'
import { money } from '../../domain/money'
import { CHANGES } from './queries'

/** Ask the seller about a line of a closed statement. */
export function AskDialog({
  buyer,
  month,
  number,
  sheet,
  line,
  done,
  close,
}: {
  buyer: string
  month: string
  number: string
  sheet: Schemas['SheetBody']
  line: string | null
  done: () => void
  close: () => void
}) {
  const { run, busy, trouble } = useAction(...CHANGES)
  const lines = [
    ...sheet.lines.map((each) => ({
      kind: 'usage',
      reference: each.product,
      name: each.product_name,
      amount: each.amount,
    })),
    ...sheet.others.map((each) => ({ ...each, name: each.says || each.reference })),
  ]
  const ask = (form: FormData) =>
    run(async () => {
      const about = lines[Number(text(form, 'about'))]
      if (!about) return
      await take(
        api.POST('/api/statement-lives/{buyer}/{month}/questions', {
          params: { path: { buyer, month } },
          body: { number, kind: about.kind, reference: about.reference, question: text(form, 'question') },
        }),
      )
      done()
    })
  return (
    <FormDialog
      id="ask"
      title={`Ask about ${number}`}
      submit="Ask"
      busy={busy}
      trouble={trouble}
      send={(form) => void ask(form)}
      close={close}
    >
      <Form.Group controlId="about" className="mb-2">
        <Form.Label>Line</Form.Label>
        <Form.Select
          name="about"
          autoFocus
          defaultValue={Math.max(
            0,
            lines.findIndex((each) => each.kind === 'usage' && each.reference === line),
          )}
        >
          {lines.map((each, place) => (
            <option key={`${each.kind} ${each.reference}`} value={place}>
              {each.name}: {money(each.amount)} {sheet.currency}
            </option>
          ))}
        </Form.Select>
      </Form.Group>
      <Form.Group controlId="question">
        <Form.Label>Question</Form.Label>
        <Form.Control as="textarea" name="question" rows={4} maxLength={2000} required />
      </Form.Group>
    </FormDialog>
  )
}

/** Answer a buyer's question, and credit something where that is the answer. */
export function AnswerDialog({
  seller,
  question,
  what,
  currency,
  done,
  close,
}: {
  seller: string
  question: Schemas['QuestionRow']
  what: string
  currency: string
  done: (said: string) => void
  close: () => void
}) {
  const { run, busy, error, trouble } = useAction(...CHANGES)
  const credits = useCan('statements.close')
  const answer = (form: FormData) =>
    run(async () => {
      const credit = text(form, 'credit')
      const { correction } = await take(
        api.POST('/api/receivables/{seller}/questions/{question}/answer', {
          params: { path: { seller, question: question.id } },
          body: { answer: text(form, 'answer'), credit: credit || null },
        }),
      )
      done(
        correction
          ? `Answered; ${money(credit)} ${currency} is credited in the next open month.`
          : `Answered ${question.asked_by}.`,
      )
    })
  return (
    <FormDialog
      id="answer"
      title={`Answer ${question.asked_by}`}
      submit="Answer"
      busy={busy}
      trouble={!isAbout(error, 'amount') && trouble}
      send={(form) => void answer(form)}
      close={close}
    >
      <p className="mb-2">
        <b>{what}</b>: {question.question}
      </p>
      <Form.Group controlId="answer" className="mb-2">
        <Form.Label>Answer</Form.Label>
        <Form.Control as="textarea" name="answer" rows={4} maxLength={2000} required autoFocus />
      </Form.Group>
      {credits && (
        <Field
          name="credit"
          label={`Credit before tax, ${currency}`}
          inputMode="decimal"
          pattern="\d+(\.\d+)?"
          title="Digits, with a point before decimals"
          error={error}
          about="amount"
          hint="Leave empty to credit nothing. The closed statement stays; the credit counts in the first open month."
        />
      )}
    </FormDialog>
  )
}
