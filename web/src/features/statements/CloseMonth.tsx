import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useEffect, useRef, useState } from 'react'
import { Button, Form, Modal } from 'react-bootstrap'
import { Link } from 'react-router'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { Trouble, Wait } from '../../components/States'
import { money } from '../../domain/money'
import { monthName } from '../../domain/months'
import { whole } from '../../domain/units'

type Finding = Schemas['ClosingFinding']
/** Milliseconds between two looks at how far it is. */
const POLLED = 700

/** What stands in the way of closing a month, what may pass with a reason, and closing it. */
export function CloseMonth({
  seller,
  month,
  done,
  close,
}: {
  seller: string
  month: string
  done: (said: string) => void
  close: () => void
}) {
  const found = useQuery({
    queryKey: ['statements', 'closing', seller, month],
    queryFn: () => take(api.GET('/api/closings/{seller}/{month}', { params: { path: { seller, month } } })),
    staleTime: 0,
    gcTime: 0,
  })
  const [reason, setReason] = useState('')
  const { run, busy, trouble } = useAction('log')
  const queries = useQueryClient()
  const begun = useRef(false)
  const body = found.data
  const blocking = body?.findings.filter((each) => each.blocks) ?? []
  const passing = body?.findings.filter((each) => !each.blocks) ?? []
  const count = body?.totals.reduce((all, each) => all + each.statements, 0) ?? 0
  const path = { seller, month }
  const running = useQuery({
    queryKey: ['statements', 'closing', seller, month, 'run'],
    queryFn: () => take(api.GET('/api/closings/{seller}/{month}/run', { params: { path } })),
    staleTime: 0,
    gcTime: 0,
    refetchInterval: (query) => (query.state.data?.state === 'running' ? POLLED : false),
  })
  const closing = running.data
  const ended = useRef(false)
  useEffect(() => {
    if (closing?.state !== 'done' || ended.current || !begun.current) return
    ended.current = true
    void queries.invalidateQueries({ queryKey: ['statements'] })
    done(
      `${monthName(month)} is closed: ${whole(closing.statements)} ${closing.statements === 1 ? 'statement' : 'statements'}` +
        (closing.first ? `, ${closing.first} to ${closing.last ?? closing.first}.` : '.'),
    )
  }, [closing, done, month, queries])
  const act = (what: 'close' | 'stop' | 'resume') =>
    run(async () => {
      begun.current = true
      await take(
        what === 'close'
          ? api.POST('/api/closings/{seller}/{month}', { params: { path }, body: { seen: body?.seen ?? '', reason } })
          : api.POST(`/api/closings/{seller}/{month}/${what}`, { params: { path } }),
      )
      await running.refetch()
    })
  const send = () => act('close')
  const isRunning = closing?.state === 'running'
  if (isRunning) begun.current = true
  return (
    <Modal show onHide={close} animation={false} aria-labelledby="close-title">
      <Form
        onSubmit={(event) => {
          event.preventDefault()
          void send()
        }}
      >
        <Modal.Header closeButton>
          <Modal.Title as="h2" id="close-title">
            Close {monthName(month)}
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          {found.isError && <Trouble error={found.error} again={() => void found.refetch()} />}
          {!body && !found.isError && <Wait what="the month" />}
          {body && (
            <>
              <p className="mb-2">
                {count === 0
                  ? 'There is nothing to charge in this month.'
                  : body.totals
                      .map(
                        (each) =>
                          `${whole(each.statements)} ${each.statements === 1 ? 'statement' : 'statements'}, ${money(each.total)} ${each.currency} with tax`,
                      )
                      .join('; ') + '.'}{' '}
                Once closed, they are numbered and stay as they are; what is learned later is adjusted in the next
                month.
              </p>
              <Findings title="Blocks closing" findings={blocking} count={body.blocking} month={month} mark="over" />
              <Findings title="To acknowledge" findings={passing} count={body.passing} month={month} mark="near" />
              {body.passing > 0 && body.blocking === 0 && (
                <Form.Group controlId="close-reason" className="mt-2">
                  <Form.Label>Reason for closing anyway</Form.Label>
                  <Form.Control
                    as="textarea"
                    rows={2}
                    maxLength={2000}
                    value={reason}
                    required
                    onChange={(event) => setReason(event.target.value)}
                  />
                </Form.Group>
              )}
              {isRunning && (
                <p className="mt-2 mb-0" role="status">
                  {closing.total > 0
                    ? `Closing: ${whole(closing.done)} of ${whole(closing.total)} buyers.`
                    : 'Closing: reading the month.'}{' '}
                  It goes on when you leave.
                </p>
              )}
              {closing?.state === 'stopped' && (
                <p className="near mt-2 mb-0">Closing was stopped; nothing is numbered.</p>
              )}
              {(trouble || (begun.current && closing?.state === 'refused' && closing.says)) && (
                <p className="over mt-2 mb-0" role="alert">
                  {trouble || closing?.says}
                </p>
              )}
            </>
          )}
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-primary" onClick={close}>
            Cancel
          </Button>
          {isRunning ? (
            <Button variant="outline-primary" disabled={busy} onClick={() => void act('stop')}>
              Stop
            </Button>
          ) : (
            <>
              {closing?.state === 'stopped' && (
                <Button variant="outline-primary" disabled={busy} onClick={() => void act('resume')}>
                  Go on
                </Button>
              )}
              <Button
                type="submit"
                disabled={!body || busy || body.blocking > 0 || (body.passing > 0 && !reason.trim())}
              >
                Close {monthName(month)}
              </Button>
            </>
          )}
        </Modal.Footer>
      </Form>
    </Modal>
  )
}

const SHOWN = 12

function Findings({
  title,
  findings,
  count,
  month,
  mark,
}: {
  title: string
  findings: Finding[]
  /** How many there are in all. */
  count: number
  month: string
  mark: string
}) {
  const [all, setAll] = useState(false)
  if (findings.length === 0) return null
  return (
    <section aria-label={title}>
      <h3 className="sub mt-2">
        {title} <span className="quiet">{whole(count)}</span>
      </h3>
      <ul className="findings">
        {(all ? findings : findings.slice(0, SHOWN)).map((each) => (
          <li key={`${each.says} ${each.buyer ?? ''}`}>
            <span className={mark} aria-hidden="true">
              {each.blocks ? '■' : '△'}
            </span>{' '}
            {each.buyer ? (
              <Link to={`/statements/${encodeURIComponent(each.buyer)}?month=${month}`}>{each.says}</Link>
            ) : (
              each.says
            )}
          </li>
        ))}
      </ul>
      {findings.length > SHOWN && !all && (
        <Button size="sm" variant="link" onClick={() => setAll(true)}>
          Show {whole(findings.length)}
        </Button>
      )}
    </section>
  )
}
