import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { useCan } from '../../api/queries'
import { useOutcome } from '../../components/Outcome'

export const settingsOf = (account: string) => ({
  queryKey: ['accounts', 'settings', account],
  queryFn: () => take(api.GET('/api/accounts/{account}/settings', { params: { path: { account } } })),
})

/** How long things last for an account and those below; empty = as the parent account. */
export function Settings({ account }: { account: string }) {
  const found = useQuery(settingsOf(account)).data
  const may = useCan('accounts.change')
  const [editing, setEditing] = useState(false)
  if (!found) return null
  return (
    <section aria-label="Settings">
      <h2 className="sub">Settings</h2>
      {editing ? (
        <Edit account={account} settings={found} close={() => setEditing(false)} />
      ) : (
        <>
          <dl className="figures">
            {found.map((each) => [
              <dt key={each.name}>{each.words}</dt>,
              <dd key={`${each.name} value`}>{each.choices[each.in_force] ?? `${each.in_force} ${each.unit}`}</dd>,
            ])}
          </dl>
          {may && (
            <Button size="sm" variant="outline-primary" aria-label="Edit settings" onClick={() => setEditing(true)}>
              Edit
            </Button>
          )}
        </>
      )}
    </section>
  )
}

function Edit({
  account,
  settings,
  close,
}: {
  account: string
  settings: Schemas['SettingBody'][]
  close: () => void
}) {
  const outcome = useOutcome()
  const { run, trouble } = useAction('accounts')
  const save = async (form: FormData) => {
    await run(async () => {
      let changed = 0
      for (const each of settings) {
        const typed = ((form.get(each.name) as string | null) ?? '').trim()
        const value = typed === '' ? null : Number(typed)
        if (value === each.own) continue
        await take(
          api.PUT('/api/accounts/{account}/settings/{name}', {
            params: { path: { account, name: each.name } },
            body: { value },
          }),
        )
        changed += 1
      }
      outcome(`${changed} ${changed === 1 ? 'setting' : 'settings'} saved.`)
      close()
    })
  }
  return (
    <Form
      onSubmit={(event) => {
        event.preventDefault()
        void save(new FormData(event.currentTarget))
      }}
    >
      {settings.map((each, place) => (
        <Form.Group controlId={`setting-${each.name}`} key={each.name} className="mb-1">
          <Form.Label>
            {each.words}
            {each.unit && `, ${each.unit}`}
          </Form.Label>
          {each.choices.length ? (
            <Form.Select name={each.name} defaultValue={each.own ?? ''}>
              <option value="">
                as the parent account{each.own === null && `: ${each.choices[each.in_force] ?? ''}`}
              </option>
              {each.choices.map((says, at) => (
                <option key={says} value={at}>
                  {says}
                </option>
              ))}
            </Form.Select>
          ) : (
            <Form.Control
              name={each.name}
              type="number"
              min={each.least}
              max={each.most}
              defaultValue={each.own ?? ''}
              placeholder={each.own === null ? `${each.in_force}, as the parent account` : 'as the parent account'}
              autoFocus={place === 0}
            />
          )}
        </Form.Group>
      ))}
      <div className="d-flex gap-2 mt-2">
        <Button type="submit" variant="outline-primary">
          Save
        </Button>
        <Button variant="link" onClick={close}>
          Close
        </Button>
      </div>
      {trouble && (
        <p className="over small mt-1" role="alert">
          {trouble}
        </p>
      )}
    </Form>
  )
}
