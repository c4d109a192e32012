import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button } from 'react-bootstrap'
import { api, take } from '../../api/client'
import { useAction } from '../../api/useAction'
import { dayName, dayOf } from '../../domain/months'

/** Where an invitation's link leads: what one is asked to join, and the one button that does it. */
export default function JoinPage({ token }: { token: string }) {
  const found = useQuery({
    queryKey: ['invitation', token],
    queryFn: () => take(api.GET('/api/invitations/{token}', { params: { path: { token } } })),
    retry: false,
  })
  const [joined, setJoined] = useState('')
  const { run, trouble } = useAction()
  const join = async () => {
    await run(async () => {
      setJoined((await take(api.POST('/api/invitations/{token}', { params: { path: { token } } }))).account)
    })
  }
  return (
    <main className="signin">
      <div className="joinbox">
        {found.isError ? (
          <>
            <h1>This invitation cannot be used</h1>
            <p role="alert">{found.error.message}</p>
          </>
        ) : !found.data ? (
          <p role="status">Loading…</p>
        ) : joined ? (
          <>
            <h1>You have joined {joined}</h1>
            <p role="status">You can close this page; what you were given is ready.</p>
          </>
        ) : (
          <>
            <h1>Join {found.data.account}</h1>
            <p>
              Hello {found.data.name}, you are invited. The invitation is valid until {dayName(dayOf(found.data.until))}
              .
            </p>
            {trouble && (
              <p className="over" role="alert">
                {trouble}
              </p>
            )}
            <Button onClick={() => void join()} autoFocus>
              Join
            </Button>
          </>
        )}
      </div>
    </main>
  )
}
