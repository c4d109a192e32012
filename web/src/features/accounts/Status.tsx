import { useAction } from '../../api/useAction'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { api, take } from '../../api/client'
import { type AccountBody } from '../../api/queries'
import type { StatusChange } from '../../domain/draft'
import { dayName } from '../../domain/months'
import { useDraft } from '../drafts/context'

/** Suspend, close or reopen an account: it goes into the draft, which shows what comes of it and can wait for a day. */
export function Status({ body }: { body: AccountBody }) {
  const draft = useDraft()
  const [choosing, setChoosing] = useState(false)
  const staged = draft.changes[`status\n${body.account}`] as StatusChange | undefined
  const put = (status: StatusChange['status'], charged = true) => {
    draft.set([
      {
        kind: 'status',
        account: body.account,
        status,
        charged,
        was: body.own_status as StatusChange['status'],
        was_charged: body.charged,
      },
    ])
    setChoosing(false)
  }
  const above = body.status !== body.own_status
  return (
    <section aria-label="Status">
      <h2 className="sub">Status</h2>
      <p className="mb-1">
        {body.status === 'active' ? (
          'Active'
        ) : (
          <b className="near">
            {body.status === 'closed' ? '■ Closed' : `◆ Suspended, ${body.charged ? 'still charged' : 'not charged'}`}
          </b>
        )}
        {body.status_since && <span className="quiet small"> since {dayName(body.status_since)}</span>}
        {above && <span className="quiet small"> with its parent account</span>}
      </p>
      {staged ? (
        <p className="small mb-0">
          In the draft:{' '}
          <b>
            {staged.status}
            {staged.status === 'suspended' && (staged.charged ? ', charged' : ', not charged')}
          </b>
          . Apply now or on a day.{' '}
          <button
            type="button"
            className="btn btn-link btn-sm p-0"
            onClick={() => draft.forget([`status\n${body.account}`])}
          >
            Remove
          </button>
        </p>
      ) : choosing ? (
        <div className="d-flex gap-2 flex-wrap" role="group" aria-label="Suspend">
          <Button size="sm" variant="link" onClick={() => setChoosing(false)}>
            Cancel
          </Button>
          <Button size="sm" onClick={() => put('suspended', true)}>
            Suspend and charge
          </Button>
          <Button size="sm" onClick={() => put('suspended', false)}>
            Suspend without charge
          </Button>
          <p className="quiet small mb-0">
            People keep what they have; nothing new is assigned. Without charge, its statement counts these days as
            zero; your cost stays.
          </p>
        </div>
      ) : (
        !above && (
          <div className="d-flex gap-2">
            {body.own_status === 'active' && (
              <Button size="sm" variant="outline-primary" onClick={() => setChoosing(true)}>
                Suspend…
              </Button>
            )}
            {body.own_status !== 'active' && (
              <Button size="sm" variant="outline-primary" onClick={() => put('active')}>
                {body.own_status === 'closed' ? 'Reopen' : 'Resume'}
              </Button>
            )}
            {body.own_status !== 'closed' && (
              <Button size="sm" variant="outline-primary" onClick={() => put('closed')}>
                Close account
              </Button>
            )}
          </div>
        )
      )}
    </section>
  )
}

/** Keep an account's departments, allocations and own rates as a template for new ones. */
export function KeepTemplate({ body }: { body: AccountBody }) {
  const { run, said } = useAction('accounts')
  const keep = (form: FormData) => {
    const text = (name: string) => ((form.get(name) as string | null) ?? '').trim()
    return run(async () => {
      const kept = await take(
        api.PUT('/api/accounts/templates', {
          body: {
            name: text('template'),
            account: body.account,
            admin_email: text('template-admin') || null,
            billing_email: null,
          },
        }),
      )
      return `“${kept.name}” is kept, with ${kept.shape.accounts.length - 1} accounts below and ${kept.shape.terms.length} allocations.`
    })
  }
  return (
    <section aria-label="Template">
      <h2 className="sub">Template for new accounts</h2>
      <Form
        onSubmit={(event) => {
          event.preventDefault()
          void keep(new FormData(event.currentTarget))
        }}
      >
        <Form.Group controlId="template-name">
          <Form.Label>Name</Form.Label>
          <Form.Control name="template" required maxLength={200} placeholder={`like ${body.name}`} />
        </Form.Group>
        <Form.Group controlId="template-admin">
          <Form.Label>Default admin</Form.Label>
          <Form.Control name="template-admin" type="email" />
        </Form.Group>
        <div className="d-flex gap-2 align-items-center mt-2">
          <Button type="submit" variant="outline-primary">
            Keep as template
          </Button>
          {said && (
            <span className={said.bad ? 'over small' : 'good small'} role={said.bad ? 'alert' : 'status'}>
              {said.text}
            </span>
          )}
        </div>
      </Form>
    </section>
  )
}
