import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { me } from '../../api/queries'
import { isFree, LimitsFields, limitsSaid, NO_LIMITS } from '../delegations/LimitsFields'
import { dayName, dayOf, instantName } from '../../domain/months'
import { Field, isAbout, text } from '../../components/Field'
import { Trouble } from '../../components/States'

export const keysOfPrograms = { queryKey: ['own', 'keys'], queryFn: () => take(api.GET('/api/keys')) }

type KeyBody = Schemas['ProgramKeyBody']

/** Keys with which programs do what one may do here. */
export function KeysOfPrograms({ after }: { after: (said: string) => Promise<void> }) {
  const keys = useQuery(keysOfPrograms)
  const running = useQuery(me).data?.running
  const [shown, setShown] = useState('')
  const { run, error } = useAction()
  const [making, setMaking] = useState<KeyBody | 'new' | null>(null)
  const [chosen, setChosen] = useState<Set<string> | null>(null)
  const [limits, setLimits] = useState<typeof NO_LIMITS | null>(null)
  const said = (key: string) => keys.data?.may.find((each) => each.key === key)?.words ?? key
  const attempt = async (work: () => Promise<string>, message: string) => {
    await run(async () => {
      setShown(await work())
      setMaking(null)
      setChosen(null)
      setLimits(null)
      await after(message)
    })
  }
  const send = (form: FormData) => {
    const last_day = text(form, 'last_day')
    const current = text(form, 'current')
    if (making && making !== 'new') {
      const params = { params: { path: { api_key_id: making.id } }, body: { last_day, current } }
      return attempt(
        async () => (await take(api.POST('/api/keys/{api_key_id}/replace', params))).key,
        `${making.name}: the one before still works for a day.`,
      )
    }
    const name = text(form, 'name')
    const permissions = chosen === null ? null : [...chosen]
    return attempt(
      async () =>
        (
          await take(
            api.POST('/api/keys', {
              body: { name, last_day, permissions, limits: isFree(limits) ? null : limits, current },
            }),
          )
        ).key,
      `Key ${name} created.`,
    )
  }
  const end = (each: KeyBody) =>
    attempt(async () => {
      await take(api.POST('/api/keys/{api_key_id}/end', { params: { path: { api_key_id: each.id } } }))
      return ''
    }, `Key ${each.name} ended.`)
  return (
    <section aria-label="Keys for programs" className="mt-3">
      <h2 className="sub">Keys for programs in {running?.name}</h2>
      {shown && (
        <div className="mb-2">
          <p className="mb-1">Copy the key now; it is not shown again.</p>
          <pre className="mb-0" aria-label="Key">
            {shown}
          </pre>
        </div>
      )}
      {(keys.data?.keys.length ?? 0) > 0 && (
        <table className="ledger" aria-label="Keys">
          <thead>
            <tr>
              <th>Key</th>
              <th>May</th>
              <th>Until</th>
              <th>Last used</th>
              <th>
                <span className="visually-hidden">Do</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {keys.data?.keys.map((each) => (
              <tr key={each.id}>
                <td>
                  {each.name} <span className="quiet small">…{each.ending}</span>
                </td>
                <td className="small">
                  {each.permissions ? each.permissions.map(said).join('; ') : 'all of your role'}
                  {limitsSaid(each.limits) && <div className="quiet">{limitsSaid(each.limits)}</div>}
                </td>
                <td className="text-nowrap">{instantName(each.expires_at)}</td>
                <td className="text-nowrap">
                  {each.last_used ? (
                    <>
                      {dayName(dayOf(each.last_used))} <span className="quiet small">from {each.last_origin}</span>
                    </>
                  ) : (
                    <span className="quiet">never</span>
                  )}
                </td>
                <td className="text-nowrap">
                  <button
                    type="button"
                    className="btn btn-link btn-sm p-0 me-2"
                    aria-label={`Replace ${each.name}`}
                    onClick={() => setMaking(each)}
                  >
                    Replace
                  </button>
                  <button
                    type="button"
                    className="btn btn-link btn-sm p-0"
                    aria-label={`End ${each.name}`}
                    onClick={() => void end(each)}
                  >
                    End
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {making ? (
        <Form
          className="mt-2"
          style={{ maxWidth: 760 }}
          onSubmit={(event) => {
            event.preventDefault()
            void send(new FormData(event.currentTarget))
          }}
        >
          <div className="lotform">
            {making === 'new' && <Field name="name" label="Name" error={error} required maxLength={100} autoFocus />}
            <Field
              name="last_day"
              label={making === 'new' ? 'Last day' : `Last day of the key in place of ${making.name}`}
              error={error}
              type="date"
              required
              autoFocus={making !== 'new'}
            />
            <Field
              name="current"
              label="Your password"
              error={error}
              type="password"
              required
              autoComplete="current-password"
            />
          </div>
          {making === 'new' && (
            <>
              <Form.Check
                className="mt-2"
                id="key-some"
                label="Limit permissions"
                checked={chosen !== null}
                onChange={(event) => setChosen(event.target.checked ? new Set() : null)}
              />
              {chosen !== null && (
                <div className="choices" role="group" aria-label="Permissions of the key">
                  {keys.data?.may.map(({ key: each, words }) => (
                    <Form.Check
                      key={each}
                      id={`key-${each}`}
                      label={words}
                      checked={chosen.has(each)}
                      onChange={(event) => {
                        const now = new Set(chosen)
                        if (event.target.checked) now.add(each)
                        else now.delete(each)
                        setChosen(now)
                      }}
                    />
                  ))}
                </div>
              )}
            </>
          )}
          {making === 'new' && (
            <>
              <Form.Check
                className="mt-2"
                id="key-limits"
                label="Limit products and amounts"
                checked={limits !== null}
                onChange={(event) => setLimits(event.target.checked ? NO_LIMITS : null)}
              />
              {limits !== null && <LimitsFields limits={limits} change={setLimits} roles={[]} />}
            </>
          )}
          <div className="d-flex gap-2 mt-2">
            <Button type="submit" size="sm" disabled={chosen?.size === 0}>
              {making === 'new' ? 'Create key' : 'Replace key'}
            </Button>
            <Button size="sm" variant="outline-primary" onClick={() => setMaking(null)}>
              Cancel
            </Button>
          </div>
        </Form>
      ) : (
        <Button size="sm" variant="outline-primary" className="mt-2" onClick={() => setMaking('new')}>
          Create key…
        </Button>
      )}
      {error !== null && !['name', 'last_day', 'current'].some((each) => isAbout(error, each)) && (
        <Trouble error={error} />
      )}
    </section>
  )
}
