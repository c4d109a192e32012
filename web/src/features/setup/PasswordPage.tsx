import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { api, take } from '../../api/client'
import { useAction } from '../../api/useAction'
import { Field, isAbout, text } from '../../components/Field'
import { Trouble } from '../../components/States'

/** Where a mailed link leads: set a password, once. Without a link: have one mailed. */
export default function PasswordPage({ token }: { token: string }) {
  return <main className="signin">{token ? <Set token={token} /> : <Ask />}</main>
}

function Ask() {
  const [sent, setSent] = useState('')
  const { run, error } = useAction()
  const send = async (email: string) => {
    await run(async () => {
      await take(api.POST('/api/passwords', { body: { email } }))
      setSent(email)
    })
  }
  if (sent)
    return (
      <div className="joinbox">
        <h1>Check your mail</h1>
        <p role="status">
          If somebody signs in with {sent}, a link to set a new password is on its way there. It works for an hour.
        </p>
        <a href="/">To the sign-in</a>
      </div>
    )
  return (
    <Form
      className="joinbox"
      aria-label="Forgot your password?"
      onSubmit={(event) => {
        event.preventDefault()
        void send(text(new FormData(event.currentTarget), 'email'))
      }}
    >
      <h1>Forgot your password?</h1>
      <p>Give the address you sign in with; a link to set a new password is mailed there.</p>
      <Field name="email" label="E-mail address" type="email" required autoFocus autoComplete="username" />
      {error !== null && <Trouble error={error} />}
      <Button type="submit" className="mt-3">
        Mail me a link
      </Button>{' '}
      <a className="ms-2" href="/">
        Back
      </a>
    </Form>
  )
}

function Set({ token }: { token: string }) {
  const found = useQuery({
    queryKey: ['password-link', token],
    queryFn: () => take(api.GET('/api/passwords/{token}', { params: { path: { token } } })),
    retry: false,
  })
  const { run, busy, error } = useAction()
  const [done, setDone] = useState(false)
  const send = async (form: FormData) => {
    await run(async () => {
      if (text(form, 'password') !== text(form, 'again')) throw new Error('The two passwords differ.')
      await take(
        api.POST('/api/passwords/{token}', {
          params: { path: { token } },
          body: { password: text(form, 'password') },
        }),
      )
      setDone(true)
    })
  }
  if (found.isError)
    return (
      <div className="joinbox">
        <h1>This link cannot be used</h1>
        <p role="alert">{found.error.message}</p>
        <a href="/password">Send a new one</a>
      </div>
    )
  if (!found.data)
    return (
      <div className="joinbox">
        <p role="status">Loading…</p>
      </div>
    )
  if (done)
    return (
      <div className="joinbox">
        <h1>Your password is set</h1>
        <p role="status">After sign-in you can turn on a second factor under Your sign-in.</p>
        <a className="btn btn-primary" href="/">
          Sign in
        </a>
      </div>
    )
  return (
    <Form
      className="joinbox"
      aria-label="Set a password"
      onSubmit={(event) => {
        event.preventDefault()
        void send(new FormData(event.currentTarget))
      }}
    >
      <h1>{found.data.is_first ? 'Set your password' : 'Set a new password'}</h1>
      <p>
        {found.data.name}, {found.data.email}
      </p>
      <input type="hidden" autoComplete="username" value={found.data.email} />
      <Field
        name="password"
        label="Password"
        error={error}
        type="password"
        required
        minLength={12}
        autoFocus
        autoComplete="new-password"
        hint="At least 12 characters; several words are best"
      />
      <div className="mt-2">
        <Field name="again" label="Password again" type="password" required autoComplete="new-password" />
      </div>
      {error !== null && !isAbout(error, 'password') && <Trouble error={error} />}
      <Button type="submit" className="mt-3" disabled={busy}>
        Set password
      </Button>
    </Form>
  )
}
