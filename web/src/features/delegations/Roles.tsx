import { useState } from 'react'
import { Button, Form, Modal } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { Field, isAbout, text } from '../../components/Field'
import { Trouble } from '../../components/States'
import type { DelegationsBody } from './DelegationsScreen'

type RoleBody = Schemas['RoleBody']

/** The roles there are, and composing one. */
export function Roles({ body, after }: { body: DelegationsBody; after: (said: string) => Promise<unknown> }) {
  const [form, setForm] = useState<RoleBody | 'new' | null>(null)
  const held = (role: RoleBody) => body.delegations.filter((each) => each.role === role.key)
  return (
    <section aria-label="Roles">
      <h2 className="sub">Roles</h2>
      <ul className="plain apart">
        {body.roles.map((each) => (
          <li key={each.key}>
            <b>{each.name}</b>{' '}
            <span className="quiet small">
              {each.about || `${each.permissions.length} permissions.`}{' '}
              {each.held ? `${each.held} ${each.held === 1 ? 'person has' : 'people have'} it.` : ''}
            </span>{' '}
            {body.may_give && each.id !== null && each.givable && (
              <button
                type="button"
                className="btn btn-link btn-sm p-0"
                aria-label={`Change the role ${each.name}`}
                onClick={() => setForm(each)}
              >
                Change
              </button>
            )}
          </li>
        ))}
      </ul>
      {body.may_give && (
        <Button size="sm" variant="outline-primary" onClick={() => setForm('new')}>
          New role
        </Button>
      )}
      {form && (
        <RoleForm
          role={form === 'new' ? null : form}
          touched={form === 'new' ? [] : held(form).map((each) => `${each.name} in ${each.account_name}`)}
          body={body}
          close={() => setForm(null)}
          done={(said) => {
            setForm(null)
            void after(said)
          }}
        />
      )}
    </section>
  )
}

interface FormProps {
  role: RoleBody | null
  /** Whom a change touches. */
  touched: string[]
  body: DelegationsBody
  close: () => void
  done: (said: string) => void
}

function RoleForm({ role, touched, body, close, done }: FormProps) {
  const own = new Set(body.roles.flatMap((each) => (each.givable ? each.permissions : [])))
  const [chosen, setChosen] = useState(new Set(role?.permissions))
  const { run, error } = useAction()
  const more = [...chosen].filter((each) => !role?.permissions.includes(each))
  const less = (role?.permissions ?? []).filter((each) => !chosen.has(each))
  const words = new Map(body.permissions.map((each) => [each.key, each.words]))
  const send = async (name: string) => {
    const said = { name, permissions: [...chosen] }
    await run(async () => {
      if (role?.id)
        await take(api.PUT('/api/delegations/roles/{role_id}', { params: { path: { role_id: role.id } }, body: said }))
      else await take(api.POST('/api/delegations/roles', { body: said }))
      done(role ? `${name} is changed.` : `${name} is composed.`)
    })
  }
  const drop = async () => {
    const id = role?.id
    if (!id) return
    await run(async () => {
      await take(api.DELETE('/api/delegations/roles/{role_id}', { params: { path: { role_id: id } } }))
      done(`${role.name} is taken away.`)
    })
  }
  const toggle = (key: string) =>
    setChosen((now) => {
      const next = new Set(now)
      if (!next.delete(key)) next.add(key)
      return next
    })
  return (
    <Modal show onHide={close} animation={false} aria-labelledby="role-title">
      <Form
        onSubmit={(event) => {
          event.preventDefault()
          void send(text(new FormData(event.currentTarget), 'name'))
        }}
      >
        <Modal.Header closeButton>
          <Modal.Title as="h2" id="role-title">
            {role ? role.name : 'New role'}
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          <Field name="name" label="Name" error={error} required maxLength={100} defaultValue={role?.name} autoFocus />
          <fieldset className="mt-2">
            <legend className="small mb-1">Permissions</legend>
            {body.permissions
              .filter((each) => own.has(each.key) || chosen.has(each.key))
              .map((each) => (
                <Form.Check
                  key={each.key}
                  id={`permission-${each.key}`}
                  label={each.words}
                  checked={chosen.has(each.key)}
                  onChange={() => toggle(each.key)}
                />
              ))}
          </fieldset>
          {touched.length > 0 && more.length + less.length > 0 && (
            <p className="near mt-2 mb-0" role="status">
              {touched.slice(0, 5).join(', ')}
              {touched.length > 5 ? ` and ${touched.length - 5} more` : ''}
              {more.length > 0 && `; can then also ${more.map((each) => words.get(each)).join(', ')}`}
              {less.length > 0 && `; can no longer ${less.map((each) => words.get(each)).join(', ')}`}.
            </p>
          )}
          {error !== null && !isAbout(error, 'name') && <Trouble error={error} />}
        </Modal.Body>
        <Modal.Footer>
          {role && touched.length === 0 && (
            <Button variant="outline-primary" className="me-auto" onClick={() => void drop()}>
              Remove
            </Button>
          )}
          <Button variant="outline-primary" onClick={close}>
            Cancel
          </Button>
          <Button type="submit" disabled={chosen.size === 0}>
            {role ? 'Save' : 'Create role'}
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  )
}
