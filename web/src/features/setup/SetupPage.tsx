import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { api, take } from '../../api/client'
import { Mark } from '../../parts/Mark'
import { Field, isAbout, text } from '../../parts/Field'
import { Trouble } from '../../parts/States'

const FIELDS = ['name', 'currency', 'code', 'email', 'password']

/** Where the link leads that a new server prints: whose installation it is, and who runs it first. */
export default function SetupPage({ token }: { token: string }) {
  const found = useQuery({
    queryKey: ['setup', token],
    queryFn: () => take(api.GET('/api/setup/{token}', { params: { path: { token } } })),
    retry: false,
  })
  const [error, setError] = useState<unknown>(null)
  const [busy, setBusy] = useState(false)
  const send = async (form: FormData) => {
    if (text(form, 'password') !== text(form, 'again')) {
      setError(new Error('The two passwords differ.'))
      return
    }
    setBusy(true)
    setError(null)
    try {
      await take(
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
      location.assign('/today')
    } catch (trouble) {
      setError(trouble)
      setBusy(false)
    }
  }
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
        <div className="lotform">
          <Field name="name" label="Name" error={error} required maxLength={200} autoFocus />
          <Field
            name="code"
            label="Code, if you bring an intake in later"
            error={error}
            maxLength={64}
            hint="As the intake calls the operator; empty = made of the name"
          />
          <Form.Group controlId="time_zone">
            <Form.Label>Time zone, in which days are reckoned</Form.Label>
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
        <h2>Who runs it first</h2>
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
        {error !== null && !FIELDS.some((each) => isAbout(error, each)) && <Trouble error={error} />}
        <Button type="submit" disabled={busy || !found.data} className="mt-3">
          {busy ? 'Setting up…' : 'Set up and go on'}
        </Button>
      </Form>
    </main>
  )
}
