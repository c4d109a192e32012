import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form, Modal } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { Field, isAbout, text } from '../../components/Field'
import { FormDialog } from '../../components/FormDialog'
import { Trouble, Wait } from '../../components/States'

type Billing = Schemas['BillingFound']
type Contact = Schemas['ContactBody']
type Details = Schemas['BillingDetailsBody']

/** What stands on an account's statements about itself, and who gets them. */
export function BillingDialog({
  account,
  name,
  done,
  close,
}: {
  account: string
  name: string
  done: () => void
  close: () => void
}) {
  const found = useQuery({
    queryKey: ['accounts', 'billing', account],
    queryFn: () => take(api.GET('/api/billing/{account}', { params: { path: { account } } })),
    staleTime: 0,
    gcTime: 0,
  })
  if (found.data) return <Details account={account} name={name} body={found.data} done={done} close={close} />
  return (
    <Modal show onHide={close} animation={false} size="lg" aria-labelledby="billing-title">
      <Modal.Header closeButton>
        <Modal.Title as="h2" id="billing-title">
          Billing details of {name}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        {found.isError ? (
          <Trouble error={found.error} again={() => void found.refetch()} />
        ) : (
          <Wait what="the billing details" />
        )}
      </Modal.Body>
    </Modal>
  )
}

const ADDRESS = [
  ['street', 'Street', 200],
  ['postcode', 'Postcode', 32],
  ['city', 'City', 100],
  ['country', 'Country code', 2],
] as const
const NUMBERS = [
  ['tax_number', 'Tax number', 32],
  ['iban', 'Bank account (IBAN)', 50],
  ['buyer_reference', 'Own order number', 100],
  ['cost_centre', 'Cost centre', 64],
] as const
const GETS = [
  ['gets_statements', 'PDF'],
  ['gets_data', 'CSV'],
  ['gets_reminders', 'Reminders'],
] as const

function Details({
  account,
  name,
  body,
  done,
  close,
}: {
  account: string
  name: string
  body: Billing
  done: () => void
  close: () => void
}) {
  const { run, busy, error, trouble } = useAction('accounts', 'statements', 'log')
  const [contacts, setContacts] = useState<Contact[]>(body.contacts)
  const [tax, setTax] = useState<NonNullable<Details['tax']>>(body.details.tax ?? 'normal')
  const save = (form: FormData) =>
    run(async () => {
      const given = (key: string) => text(form, key) || null
      const days = given('payment_days')
      const terms: Partial<Details> = body.sets_terms
        ? {
            tax,
            exemption_reason: tax === 'exempt' ? given('exemption_reason') : null,
            payment_days: days === null ? null : Number(days),
          }
        : {}
      const details: Details = {
        ...body.details,
        ...Object.fromEntries([...ADDRESS, ...NUMBERS].map(([key]) => [key, given(key)])),
        ...terms,
      }
      await take(api.PUT('/api/billing/{account}', { params: { path: { account } }, body: { details, contacts } }))
      done()
    })
  const known = [...ADDRESS, ...NUMBERS].some(([key]) => isAbout(error, key))
  const change = (place: number, values: Partial<Contact>) =>
    setContacts((now) => now.map((each, at) => (at === place ? { ...each, ...values } : each)))
  return (
    <FormDialog
      id="billing"
      title={`Billing details of ${name}`}
      size="lg"
      submit="Save"
      busy={busy}
      trouble={!known && trouble}
      send={(form) => void save(form)}
      close={close}
    >
      <div className="cardfields">
        {[...ADDRESS, ...NUMBERS].map(([key, label, most], place) => (
          <Field
            key={key}
            name={key}
            label={label}
            maxLength={most}
            autoFocus={place === 0}
            defaultValue={body.details[key] ?? ''}
            error={error}
          />
        ))}
      </div>
      <h3 className="sub mt-3">Terms</h3>
      {body.sets_terms ? (
        <div className="cardfields">
          <Form.Group controlId="tax">
            <Form.Label>Tax</Form.Label>
            <Form.Select value={tax} onChange={(event) => setTax(event.target.value as typeof tax)}>
              <option value="normal">Normal</option>
              <option value="reverse_charge">Reverse charge</option>
              <option value="exempt">Exempt</option>
            </Form.Select>
          </Form.Group>
          {tax === 'exempt' && (
            <Field
              name="exemption_reason"
              label="Reason, as it stands on statements"
              maxLength={200}
              defaultValue={body.details.exemption_reason ?? ''}
              error={error}
            />
          )}
          <Field
            name="payment_days"
            label="Days to pay"
            inputMode="numeric"
            pattern="\d{1,4}"
            title="A whole number of days"
            hint="Empty: no due date"
            defaultValue={String(body.details.payment_days ?? '')}
            error={error}
          />
        </div>
      ) : (
        <p className="quiet mb-0">
          {{ normal: 'Taxed', reverse_charge: 'Reverse charge', exempt: 'Exempt from tax' }[tax]};{' '}
          {body.details.payment_days == null ? 'no due date' : `due ${body.details.payment_days} days after closing`}.
          The account that sells to this one sets both.
        </p>
      )}
      <h3 className="sub mt-3">Who gets statements</h3>
      <p className="quiet small mb-1">
        {body.billing_email ? `${body.billing_email} gets everything.` : 'No billing contact yet: set one under Edit.'}{' '}
        Add others for what they want.
      </p>
      {contacts.map((each, place) => (
        <div className="d-flex gap-2 align-items-center mb-1" key={place}>
          <Form.Control
            type="email"
            size="sm"
            required
            aria-label={`Contact ${place + 1}`}
            style={{ maxWidth: 280 }}
            maxLength={254}
            value={each.email}
            isInvalid={isAbout(error, `contacts.${place}.email`)}
            onChange={(event) => change(place, { email: event.target.value })}
          />
          {GETS.map(([key, label]) => (
            <Form.Check
              key={key}
              id={`${key}-${place}`}
              label={label}
              checked={each[key]}
              onChange={(event) => change(place, { [key]: event.target.checked })}
            />
          ))}
          <Button
            size="sm"
            variant="link"
            aria-label={`Remove contact ${place + 1}`}
            onClick={() => setContacts((now) => now.filter((_, at) => at !== place))}
          >
            Remove
          </Button>
        </div>
      ))}
      <Button
        size="sm"
        variant="outline-primary"
        onClick={() =>
          setContacts((now) => [...now, { email: '', gets_statements: true, gets_data: false, gets_reminders: false }])
        }
      >
        Add contact
      </Button>
    </FormDialog>
  )
}
