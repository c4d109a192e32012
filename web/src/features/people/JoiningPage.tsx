import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'

const STATES: Record<Exclude<Schemas['WishBody']['state'], 'open'>, [string, string]> = {
  joined: ['You have joined', 'You can close this page; what you were given is ready.'],
  waits: ['Thank you', 'Your address is confirmed. An administrator approves your request; you get a mail.'],
  refused: ['You have not joined', 'Your request was declined. Ask your administrator.'],
}

/** Asking to join by one's address, and the link in the mail that proves it. */
export default function JoiningPage({ token }: { token: string }) {
  return (
    <main className="signin">
      <div className="joinbox">{token ? <Proving token={token} /> : <Asking />}</div>
    </main>
  )
}

function Asking() {
  const [asked, setAsked] = useState('')
  const { run, trouble } = useAction()
  const ask = async (form: FormData) => {
    const email = (form.get('email') as string | null) ?? ''
    await run(async () => {
      await take(api.POST('/api/joining', { body: { email, name: (form.get('name') as string | null) ?? '' } }))
      setAsked(email)
    })
  }
  if (asked)
    return (
      <>
        <h1>Check your mail</h1>
        <p role="status">
          If people with an address like {asked} can join, a link is on its way there. It holds for a day.
        </p>
      </>
    )
  return (
    <>
      <h1>Join your organisation</h1>
      <p>Give your address at work; a link that goes there proves that it is yours.</p>
      <Form
        onSubmit={(event) => {
          event.preventDefault()
          void ask(new FormData(event.currentTarget))
        }}
      >
        <Form.Group controlId="joining-name" className="mb-2">
          <Form.Label>Name</Form.Label>
          <Form.Control name="name" required maxLength={200} autoFocus autoComplete="name" />
        </Form.Group>
        <Form.Group controlId="joining-email" className="mb-3">
          <Form.Label>E-mail address</Form.Label>
          <Form.Control name="email" type="email" required maxLength={254} autoComplete="email" />
        </Form.Group>
        {trouble && (
          <p className="over" role="alert">
            {trouble}
          </p>
        )}
        <Button type="submit">Send me the link</Button>
      </Form>
    </>
  )
}

function Proving({ token }: { token: string }) {
  const queries = useQueryClient()
  const query = {
    queryKey: ['joining', token],
    queryFn: () => take(api.GET('/api/joining/{token}', { params: { path: { token } } })),
    retry: false,
  }
  const found = useQuery(query)
  const { run, trouble } = useAction()
  const join = async () => {
    await run(async () => {
      queries.setQueryData(
        query.queryKey,
        await take(api.POST('/api/joining/{token}', { params: { path: { token } } })),
      )
    })
  }
  if (found.isError)
    return (
      <>
        <h1>This link cannot be used</h1>
        <p role="alert">{found.error.message}</p>
        <p>
          <a href="/joining">Request again</a>
        </p>
      </>
    )
  if (!found.data) return <p role="status">Loading…</p>
  if (found.data.state !== 'open')
    return (
      <>
        <h1>
          {STATES[found.data.state][0]}
          {found.data.state === 'joined' && ` ${found.data.account}`}
        </h1>
        <p role="status">{STATES[found.data.state][1]}</p>
      </>
    )
  return (
    <>
      <h1>Join {found.data.account}</h1>
      <p>
        Hello {found.data.name}.{' '}
        {found.data.at_once ? 'You join immediately.' : 'An administrator approves your request.'}
      </p>
      {trouble && (
        <p className="over" role="alert">
          {trouble}
        </p>
      )}
      <Button onClick={() => void join()} autoFocus>
        {found.data.at_once ? 'Join' : 'Request access'}
      </Button>
    </>
  )
}
