import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { me, own } from '../../api/queries'
import { instantName } from '../../domain/months'
import { Field, isAbout, text } from '../../components/Field'
import { Trouble, Wait } from '../../components/States'
import { KeysOfPrograms } from './KeysOfPrograms'

/** How do I sign in, and where am I signed in? */
export default function OwnScreen() {
  const found = useQuery(own)
  const queries = useQueryClient()
  const lacking = useQuery(me).data?.lacks_second_factor ?? false
  const [said, setSaid] = useState('')
  const after = async (message: string) => {
    setSaid(message)
    await queries.invalidateQueries({ queryKey: own.queryKey })
    if (lacking) await queries.invalidateQueries({ queryKey: me.queryKey })
  }
  if (found.isError) return <Trouble page="Your sign-in" error={found.error} again={() => void found.refetch()} />
  if (!found.data) return <Wait what="your sessions" />
  return (
    <>
      <div className="bar">
        <h1>Your sign-in</h1>
        <span className="quiet small" role="status">
          {said}
        </span>
      </div>
      <div className="scroll account" role="region" aria-label="Your sign-in" tabIndex={0}>
        {lacking && (
          <p className="near" role="alert">
            This account is run with a second factor. Set yours up here; then everything opens.
          </p>
        )}
        <div className="columns">
          <div>
            <Sessions sessions={found.data.sessions} after={after} />
            {!lacking && <KeysOfPrograms after={after} />}
          </div>
          <aside>
            <Password after={after} />
            <SecondFactor left={found.data.recovery_codes} after={after} />
          </aside>
        </div>
      </div>
    </>
  )
}

type After = (said: string) => Promise<void>

/** A browser by its name, as far as it tells. */
function browser(agent: string): string {
  const name = /(Firefox|Edg|OPR|Chrome|Safari)\//.exec(agent)?.[1]
  const on = /(Windows|Android|iPhone|iPad|Mac OS X|Linux)/.exec(agent)?.[1]
  return (
    [name === 'Edg' ? 'Edge' : name === 'OPR' ? 'Opera' : name, on && `on ${on}`].filter(Boolean).join(' ') ||
    agent ||
    'unknown'
  )
}

function Sessions({ sessions, after }: { sessions: Schemas['OwnSessionBody'][]; after: After }) {
  const { run, error } = useAction()
  const end = async (name: string | null) => {
    await run(async () => {
      await take(
        name
          ? api.POST('/api/own/sessions/{name}/end', { params: { path: { name } } })
          : api.POST('/api/own/sessions/end'),
      )
      await after(name ? 'That session has ended.' : 'All other sessions have ended.')
    })
  }
  const when = (at: string) => instantName(at)
  return (
    <section aria-label="Sessions">
      <h2 className="sub">Active sessions</h2>
      {error !== null && <Trouble error={error} />}
      <table className="ledger" aria-label="Sessions">
        <thead>
          <tr>
            <th>Browser</th>
            <th>From</th>
            <th>Began</th>
            <th>Last used</th>
            <th>
              <span className="visually-hidden">Do</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {sessions.map((each) => (
            <tr key={each.name}>
              <td title={each.agent}>
                {browser(each.agent)} {each.here && <span className="tag">this one</span>}
              </td>
              <td>{each.origin || '–'}</td>
              <td className="text-nowrap">{when(each.began)}</td>
              <td className="text-nowrap">{when(each.last_used)}</td>
              <td>
                {!each.here && (
                  <button
                    type="button"
                    className="btn btn-link btn-sm p-0"
                    aria-label={`End the session of ${browser(each.agent)}, began ${when(each.began)}`}
                    onClick={() => void end(each.name)}
                  >
                    End the session
                  </button>
                )}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {sessions.length > 1 && (
        <Button size="sm" variant="outline-primary" className="mt-2" onClick={() => void end(null)}>
          End all others
        </Button>
      )}
    </section>
  )
}

function Password({ after }: { after: After }) {
  const { run, busy, error } = useAction()
  const send = async (element: HTMLFormElement) => {
    const form = new FormData(element)
    await run(async () => {
      if (text(form, 'password') !== text(form, 'again')) throw new Error('The two passwords differ.')
      await take(
        api.POST('/api/own/password', {
          body: { current: text(form, 'current'), password: text(form, 'password') },
        }),
      )
      element.reset()
      await after('Your password is changed; your other sessions have ended.')
    })
  }
  return (
    <section aria-label="Password">
      <h2 className="sub">Password</h2>
      <Form
        onSubmit={(event) => {
          event.preventDefault()
          void send(event.currentTarget)
        }}
      >
        <Field
          name="current"
          label="Current password"
          type="password"
          error={error}
          required
          autoComplete="current-password"
        />
        <Field
          name="password"
          label="New password"
          type="password"
          error={error}
          required
          minLength={12}
          autoComplete="new-password"
          hint="At least 12 characters; several words are best"
        />
        <Field name="again" label="New password again" type="password" required autoComplete="new-password" />
        {error !== null && !isAbout(error, 'current') && !isAbout(error, 'password') && <Trouble error={error} />}
        <Button type="submit" size="sm" className="mt-2" disabled={busy}>
          Change password
        </Button>
      </Form>
    </section>
  )
}

function SecondFactor({ left, after }: { left: number | null; after: After }) {
  const [begun, setBegun] = useState<Schemas['NewFactorBody'] | null>(null)
  const [codes, setCodes] = useState<string[]>([])
  const { run, error } = useAction()
  const attempt = async (work: () => Promise<void>) => {
    await run(async () => {
      await work()
    })
  }
  const begin = (current: string) =>
    attempt(async () => setBegun(await take(api.POST('/api/own/second-factor', { body: { current } }))))
  const confirm = (code: string) =>
    attempt(async () => {
      const found = await take(api.POST('/api/own/second-factor/confirm', { body: { code } }))
      setBegun(null)
      setCodes(found.codes)
      await after('Second factor is on. Sign-in now asks for a code.')
    })
  const end = (current: string) =>
    attempt(async () => {
      await take(api.POST('/api/own/second-factor/end', { body: { current } }))
      setCodes([])
      await after('Second factor is off.')
    })
  return (
    <section aria-label="Second factor">
      <h2 className="sub">Second factor</h2>
      {codes.length > 0 && (
        <div className="mb-2">
          <p className="mb-1">
            Keep these recovery codes apart from your device; each signs you in once in place of a code, and they are
            not shown again.
          </p>
          <pre className="mb-0" aria-label="Recovery codes">
            {codes.join('\n')}
          </pre>
        </div>
      )}
      {left !== null ? (
        <Form
          onSubmit={(event) => {
            event.preventDefault()
            void end(text(new FormData(event.currentTarget), 'proof'))
          }}
        >
          <p className="mb-1">
            Signing in asks for a code of your authenticator. {left} recovery {left === 1 ? 'code is' : 'codes are'}{' '}
            left.
          </p>
          <Field name="proof" label="Your password" type="password" required autoComplete="current-password" />
          <Button type="submit" size="sm" variant="outline-primary" className="mt-2">
            Remove
          </Button>
        </Form>
      ) : begun ? (
        <Form
          onSubmit={(event) => {
            event.preventDefault()
            void confirm(text(new FormData(event.currentTarget), 'code'))
          }}
        >
          <p className="mb-1">Scan this with an authenticator, or type the key into it; then give the code it shows.</p>
          <img src={begun.picture} alt="Key as a square code" className="squarecode" />
          <p className="small text-break">{begun.secret}</p>
          <Field
            name="code"
            label="Code"
            error={error}
            required
            inputMode="numeric"
            autoComplete="one-time-code"
            maxLength={10}
            autoFocus
          />
          <Button type="submit" size="sm" className="mt-2">
            Turn on
          </Button>
        </Form>
      ) : (
        <Form
          onSubmit={(event) => {
            event.preventDefault()
            void begin(text(new FormData(event.currentTarget), 'proof'))
          }}
        >
          <p className="mb-2">Besides the password, sign-in can ask for a code that your phone shows.</p>
          <Field
            name="proof"
            label="Your password"
            error={error}
            about="current"
            type="password"
            required
            autoComplete="current-password"
          />
          <Button type="submit" size="sm" variant="outline-primary" className="mt-2">
            Set up
          </Button>
        </Form>
      )}
      {error !== null && !isAbout(error, 'code') && (left !== null || !isAbout(error, 'current')) && (
        <Trouble error={error} />
      )}
    </section>
  )
}
