import { useState } from 'react'
import { Button } from 'react-bootstrap'
import { useQuery } from '@tanstack/react-query'
import { api, take, type Schemas } from '../../api/client'
import { me, useCan } from '../../api/queries'
import { useAction } from '../../api/useAction'
import { useOutcome } from '../../components/Outcome'
import { money } from '../../domain/money'
import { dayName, dayOf, shortDay } from '../../domain/months'
import { AnswerDialog, AskDialog } from './QuestionDialogs'
import { PaymentDialog } from './PaymentDialog'
import { StateOf } from './PaymentsScreen'
import { CHANGES, sentWords, type Life } from './queries'

type Sheet = Schemas['SheetBody']
type Question = Schemas['QuestionRow']

/** What became of a closed statement: due, sent, paid and asked about, with what one can do about it. */
export function StatementLife({
  life,
  buyer,
  month,
  sheet,
  line,
}: {
  life: Life
  buyer: string
  month: string
  sheet: Sheet
  /** The line that is open on the screen, about which one asks first. */
  line: string | null
}) {
  const who = useQuery(me).data
  const settles = useCan('statements.settle') && life.runs_seller
  const outcome = useOutcome()
  const { run, busy, trouble } = useAction(...CHANGES)
  const [doing, setDoing] = useState<'pay' | 'ask' | null>(null)
  const [answering, setAnswering] = useState<Question | null>(null)
  const row = life.receivable
  const path = { seller: life.seller }
  const today = dayOf(who?.now ?? new Date().toISOString())
  const post = (what: 'send' | 'remind') =>
    run(async () => {
      const sent = await take(
        api.POST(`/api/receivables/{seller}/${what}`, { params: { path }, body: { numbers: [row.number] } }),
      )
      outcome(sentWords(sent, what === 'send' ? 'statement' : 'reminder'))
    })
  const withdraw = (payment: Schemas['PaymentRow']) =>
    run(async () => {
      await take(
        api.POST('/api/receivables/{seller}/{number}/payments/{payment}/withdraw', {
          params: { path: { ...path, number: row.number, payment: payment.id } },
        }),
      )
      outcome(`Payment of ${money(payment.amount)} ${row.currency} withdrawn.`)
    })
  const nameOf = (kind: string, reference: string) =>
    sheet.lines.find((each) => kind === 'usage' && each.product === reference)?.product_name ??
    (sheet.others.find((each) => each.kind === kind && each.reference === reference)?.says || reference)
  const mails = life.mails.filter((each) => each.kind === 'statement')
  const last = mails.at(-1)
  const waiting = life.questions.filter((each) => each.answer === null)
  const answered = life.questions.filter((each) => each.answer !== null)
  return (
    <section className="life" aria-label="Payment and questions">
      <div className="d-flex flex-wrap align-items-center gap-2">
        <span>
          <StateOf row={row} today={today} />
          {(row.state === 'open' || row.state === 'overdue') && Number(row.paid) > 0 && (
            <span className="quiet">
              {' '}
              {money(row.open)} {row.currency} still open
            </span>
          )}
          {life.runs_seller && (
            <span className={last?.state === 'failed' ? 'over' : 'quiet'}>
              {' · '}
              {last
                ? `${{ sent: 'sent', waiting: 'on the way', failed: 'not delivered' }[last.state]} ${last.state === 'sent' ? `${shortDay(dayOf(last.at))} ` : ''}to ${[...new Set(mails.map((each) => each.to_address))].join(', ')}`
                : 'not sent'}
              {last?.trouble && `: ${last.trouble}`}
              {row.reminded && `, reminded ${shortDay(dayOf(row.reminded))}`}
            </span>
          )}
        </span>
        <span className="grow" />
        {settles && (
          <>
            <Button size="sm" variant="outline-primary" disabled={busy} onClick={() => void post('send')}>
              {last ? 'Send again' : 'Send'}
            </Button>
            {row.state === 'overdue' && (
              <Button size="sm" variant="outline-primary" disabled={busy} onClick={() => void post('remind')}>
                Remind
              </Button>
            )}
            {Number(row.total) !== 0 && row.state !== 'paid' && (
              <Button size="sm" variant="outline-primary" onClick={() => setDoing('pay')}>
                Record payment…
              </Button>
            )}
          </>
        )}
        {!settles && (
          <Button size="sm" variant="outline-primary" onClick={() => setDoing('ask')}>
            Ask about a line…
          </Button>
        )}
      </div>
      {trouble && (
        <p className="over mb-0" role="alert">
          {trouble}
        </p>
      )}
      {life.payments.length > 0 && (
        <ul className="plain small" aria-label="Payments">
          {life.payments.map((each) => (
            <li key={each.id}>
              <span className={each.withdrawn ? 'quiet text-decoration-line-through' : undefined}>
                {money(each.amount)} {row.currency} {Number(each.amount) < 0 ? 'paid back' : 'paid'} on{' '}
                {dayName(each.day)}
              </span>
              <span className="quiet">
                {each.note && `, ${each.note}`}
                {each.by && `, recorded by ${each.by}`}
                {each.withdrawn && ', withdrawn'}
              </span>
              {settles && !each.withdrawn && (
                <Button
                  className="ms-2 p-0"
                  size="sm"
                  variant="link"
                  disabled={busy}
                  onClick={() => void withdraw(each)}
                >
                  Withdraw
                </Button>
              )}
            </li>
          ))}
        </ul>
      )}
      {waiting.length > 0 && (
        <ul className="plain questions" aria-label="Open questions">
          {waiting.map((each) => (
            <Asked
              key={each.id}
              asked={each}
              what={nameOf(each.kind, each.reference)}
              answer={settles ? setAnswering : null}
            />
          ))}
        </ul>
      )}
      {answered.length > 0 && (
        <details>
          <summary className="small">
            {answered.length} answered {answered.length === 1 ? 'question' : 'questions'}
          </summary>
          <ul className="plain questions">
            {answered.map((each) => (
              <Asked key={each.id} asked={each} what={nameOf(each.kind, each.reference)} answer={null} />
            ))}
          </ul>
        </details>
      )}
      {doing === 'pay' && (
        <PaymentDialog
          seller={life.seller}
          row={row}
          today={today}
          close={() => setDoing(null)}
          done={(said) => {
            setDoing(null)
            outcome(said)
          }}
        />
      )}
      {doing === 'ask' && (
        <AskDialog
          buyer={buyer}
          month={month}
          number={row.number}
          sheet={sheet}
          line={line}
          close={() => setDoing(null)}
          done={() => {
            setDoing(null)
            outcome(`Asked ${life.seller_name} about ${row.number}.`)
          }}
        />
      )}
      {answering && (
        <AnswerDialog
          seller={life.seller}
          question={answering}
          what={nameOf(answering.kind, answering.reference)}
          currency={row.currency}
          close={() => setAnswering(null)}
          done={(said) => {
            setAnswering(null)
            outcome(said)
          }}
        />
      )}
    </section>
  )
}

/** A question and its answer, or the way to give one. */
function Asked({ asked, what, answer }: { asked: Question; what: string; answer: ((asked: Question) => void) | null }) {
  return (
    <li>
      <b>{what}</b>{' '}
      <span className="quiet small">
        {asked.asked_by}, {dayName(dayOf(asked.asked_at))}
      </span>
      <div>{asked.question}</div>
      {asked.answer ? (
        <div className="replied">
          {asked.answer}{' '}
          <span className="quiet small">
            {asked.answered_by}, {dayName(dayOf(asked.answered_at ?? asked.asked_at))}
            {asked.correction && `, credited as ${asked.correction}`}
          </span>
        </div>
      ) : answer ? (
        <Button size="sm" variant="outline-primary" onClick={() => answer(asked)}>
          Answer…
        </Button>
      ) : (
        <div className="near small">No answer yet</div>
      )}
    </li>
  )
}
