import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button } from 'react-bootstrap'
import { api, take } from '../../api/client'
import { useAction } from '../../api/useAction'
import { dayName, dayOf } from '../../domain/months'

/** Where the link of a notice leads: one word, and what one has stays. */
export default function KeepPage({ token }: { token: string }) {
  const path = { params: { path: { token } } }
  const found = useQuery({
    queryKey: ['keep', token],
    queryFn: () => take(api.GET('/api/keep/{token}', path)),
    retry: false,
  })
  const [kept, setKept] = useState(false)
  const { run, trouble } = useAction()
  const keep = async () => {
    await run(async () => {
      await take(api.POST('/api/keep/{token}', path))
      setKept(true)
    })
  }
  return (
    <main className="signin">
      <div className="joinbox">
        {found.isError ? (
          <>
            <h1>This notice has expired</h1>
            <p role="alert">{found.error.message}</p>
          </>
        ) : !found.data ? (
          <p role="status">Loading…</p>
        ) : kept || found.data.needed ? (
          <>
            <h1>You keep your seat</h1>
            <p role="status">Thank you, {found.data.name}. Nothing is taken back; you can close this page.</p>
          </>
        ) : (
          <>
            <h1>Do you still need it?</h1>
            <p>
              Hello {found.data.name}. If you say nothing by {dayName(dayOf(found.data.until))}, what you have and do
              not use is taken back.
            </p>
            {trouble && (
              <p className="over" role="alert">
                {trouble}
              </p>
            )}
            <Button onClick={() => void keep()} autoFocus>
              I still need it
            </Button>
          </>
        )}
      </div>
    </main>
  )
}
