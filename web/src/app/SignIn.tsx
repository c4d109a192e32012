import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { api, ApiError, take } from '../api/client'
import { Trouble } from '../components/States'
import { Mark } from '../components/Mark'

/** The one open screen. */
export function SignIn() {
  const queries = useQueryClient()
  const [error, setError] = useState<unknown>(null)
  const [busy, setBusy] = useState(false)
  const [asksCode, setAsksCode] = useState(false)
  const installation = useQuery({
    queryKey: ['installation'],
    queryFn: () => take(api.GET('/api/installation')),
    staleTime: 60_000,
  }).data
  const submit = async (event: React.FormEvent<HTMLFormElement>) => {
    event.preventDefault()
    const form = new FormData(event.currentTarget)
    setBusy(true)
    setError(null)
    try {
      const text = (name: string) => {
        const value = form.get(name)
        return typeof value === 'string' ? value : ''
      }
      await take(
        api.POST('/api/sign-in', {
          body: { email: text('email'), password: text('password'), code: text('code') || null },
        }),
      )
      await queries.resetQueries()
    } catch (trouble) {
      const asks = trouble instanceof ApiError && trouble.body.code === true
      // The first time it is asked for is no error.
      setError(asks && !asksCode ? null : trouble)
      setAsksCode(asks || (asksCode && !(trouble instanceof ApiError && trouble.status === 401)))
    } finally {
      setBusy(false)
    }
  }
  return (
    <main className="signin">
      <Form onSubmit={submit} aria-label="Sign in">
        <div className="mark mb-3">
          <Mark /> Fair Ladle
        </div>
        <h1 className="mb-3">Sign in</h1>
        {installation?.set_up === false && (
          <p role="status">
            This installation is new. Set it up with the link that its server printed when it started; each start prints
            a new one.
          </p>
        )}
        {installation?.demo && (
          <p className="quiet small" role="status">
            This is the demo: its clients and people are made up, and who can sign in stands where it was started.
          </p>
        )}
        <Form.Group controlId="email" className="mb-2">
          <Form.Label>E-mail address</Form.Label>
          <Form.Control name="email" type="email" autoComplete="username" required autoFocus />
        </Form.Group>
        <Form.Group controlId="password" className="mb-3">
          <Form.Label>Password</Form.Label>
          <Form.Control name="password" type="password" autoComplete="current-password" required />
        </Form.Group>
        {asksCode && (
          <Form.Group controlId="code" className="mb-3">
            <Form.Label>Code of your authenticator, or a recovery code</Form.Label>
            <Form.Control name="code" autoComplete="one-time-code" maxLength={40} required autoFocus />
          </Form.Group>
        )}
        {error !== null && <Trouble error={error} />}
        <Button type="submit" disabled={busy} className="w-100">
          {busy ? 'Signing in…' : 'Sign in'}
        </Button>
        <p className="mb-0 mt-3">
          <a href="/password">Forgot your password?</a>
        </p>
      </Form>
    </main>
  )
}
