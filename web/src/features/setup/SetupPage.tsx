import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { Mark } from '../../components/Mark'
import { Field, isAbout, text } from '../../components/Field'
import { Faults } from './Faults'

const FIELDS = ['name', 'currency', 'code', 'email', 'password']

/** Where the link leads that a new server prints: whose installation it is, and who runs it first. */
export default function SetupPage({ token }: { token: string }) {
  const found = useQuery({
    queryKey: ['setup', token],
    queryFn: () => take(api.GET('/api/setup/{token}', { params: { path: { token } } })),
    retry: false,
  })
  const { run, busy, error } = useAction()
  const [uploads, setUploads] = useState(false)
  const send = async (form: FormData) => {
    await run(async () => {
      if (text(form, 'password') !== text(form, 'again')) throw new Error('The two passwords differ.')
      if (uploads) await upload(form)
      else await begin(form)
      location.assign(uploads ? '/intake' : '/today')
    })
  }
  const upload = (form: FormData) => {
    const sent = new FormData()
    sent.set('token', token)
    sent.set('name', text(form, 'who'))
    for (const each of ['email', 'password', 'intake']) sent.set(each, form.get(each) ?? '')
    return take(
      api.POST('/api/setup', {
        body: sent as unknown as Schemas['Body_set_up_from_an_intake_api_setup_post'],
        bodySerializer: (body: unknown) => body as FormData,
      }),
    )
  }
  const begin = (form: FormData) =>
    take(
      api.POST('/api/setup/{token}', {
        params: { path: { token } },
        body: {
          name: text(form, 'name'),
          time_zone: text(form, 'time_zone'),
          currency: text(form, 'currency').toUpperCase(),
          code: text(form, 'code'),
          admin: { name: text(form, 'who'), email: text(form, 'email'), password: text(form, 'password') },
        },
      }),
    )
  if (found.isError)
    return (
      <main className="signin">
        <div className="joinbox">
          <h1>This link cannot be used</h1>
          <p role="alert">{found.error.message}</p>
          <p className="quiet">
            A server that is not set up prints a new link each time it starts. <a href="/">To the sign-in</a>
          </p>
        </div>
      </main>
    )
  const here = Intl.DateTimeFormat().resolvedOptions().timeZone
  const zones = found.data?.time_zones ?? []
  return (
    <main className="signin">
      <Form
        className="setup"
        aria-label="Set up Fair Ladle"
        onSubmit={(event) => {
          event.preventDefault()
          void send(new FormData(event.currentTarget))
        }}
      >
        <div className="mark mb-3">
          <Mark /> Fair Ladle
        </div>
        <h1>Set up</h1>
        <h2>Your company, the operator</h2>
        <div role="radiogroup" aria-label="Start with" className="d-flex gap-3 mb-2">
          <Form.Check
            type="radio"
            name="start"
            id="start-empty"
            label="Start empty"
            checked={!uploads}
            onChange={() => setUploads(false)}
          />
          <Form.Check
            type="radio"
            name="start"
            id="start-intake"
            label="Start from an intake"
            checked={uploads}
            onChange={() => setUploads(true)}
          />
        </div>
        {uploads ? (
          <Form.Group controlId="intake">
            <Form.Label>Workbook (.xlsx) with a sheet per table, or a zip of CSV files</Form.Label>
            <Form.Control name="intake" type="file" accept=".zip,.xlsx" required />
            <Form.Text>It has the operator among its accounts. With a single error nothing is loaded.</Form.Text>
          </Form.Group>
        ) : (
          <div className="lotform">
            <Field name="name" label="Name" error={error} required maxLength={200} autoFocus />
            <Field
              name="code"
              label="Code (optional)"
              error={error}
              maxLength={64}
              hint="Short name for files and programs; made from the name if empty"
            />
            <Form.Group controlId="time_zone">
              <Form.Label>Time zone</Form.Label>
              <Form.Select
                name="time_zone"
                key={zones.length}
                defaultValue={zones.includes(here) ? here : zones[0]}
                required
              >
                {zones.map((each) => (
                  <option key={each}>{each}</option>
                ))}
              </Form.Select>
            </Form.Group>
            <Field
              name="currency"
              label="Currency"
              error={error}
              required
              maxLength={3}
              defaultValue="EUR"
              hint="As ISO 4217 has it: EUR, GBP, USD"
            />
          </div>
        )}
        <h2>First admin</h2>
        <div className="lotform">
          <Field name="who" label="Your name" required maxLength={200} autoComplete="name" />
          <Field
            name="email"
            label="E-mail address, to sign in with"
            error={error}
            type="email"
            required
            maxLength={254}
            autoComplete="username"
          />
          <Field
            name="password"
            label="Password"
            error={error}
            type="password"
            required
            minLength={12}
            autoComplete="new-password"
            hint="At least 12 characters; several words are best"
          />
          <Field name="again" label="Password again" type="password" required autoComplete="new-password" />
        </div>
        {error !== null && !FIELDS.some((each) => isAbout(error, each)) && <Faults error={error} />}
        <Button type="submit" disabled={busy || !found.data} className="mt-3">
          {busy ? 'Setting up…' : 'Set up'}
        </Button>
      </Form>
    </main>
  )
}
