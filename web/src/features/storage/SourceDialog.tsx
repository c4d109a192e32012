import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Form } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { AccountSelect } from '../../components/AccountSelect'
import { Field, isAbout } from '../../components/Field'
import { FormDialog } from '../../components/FormDialog'
import { storageProducts } from './queries'

type Terms = Schemas['SourceTermsBody']

const FIELDS = [
  ...['name', 'host', 'port', 'master', 'password', 'folder', 'pace', 'every_minutes'],
  ...['access_key', 'region', 'bucket', 'prefix'],
]

/** A system that is asked who stores how much. */
export function SourceDialog({
  source,
  account,
  isOperator,
  close,
  done,
}: {
  source: Schemas['SourceBody'] | null
  account: string
  isOperator: boolean
  close: () => void
  done: (said: string) => void
}) {
  const products = useQuery(storageProducts).data ?? []
  const was = source?.terms
  const [kind, setKind] = useState<Terms['kind']>(was?.kind ?? 'imap')
  const [below, setBelow] = useState(was?.account ?? account)
  const [security, setSecurity] = useState(was?.security ?? 'tls')
  const [subjects, setSubjects] = useState(was?.subjects ?? 'people')
  const [flags, setFlags] = useState({
    by_email: was?.by_email ?? true,
    sets_limits: was?.sets_limits ?? false,
    paused: was?.paused ?? false,
  })
  const { run, busy, trouble, error } = useAction('storage sources')
  const isRemote = kind === 'imap' || kind === 'objects'
  const send = (form: FormData) => {
    const text = (name: string) => (form.get(name) as string | null)?.trim() || null
    const number = (name: string) => (text(name) === null ? null : Number(text(name)))
    const body = {
      account: below,
      product: text('product') ?? '',
      kind,
      name: text('name') ?? '',
      every_minutes: number('every_minutes') ?? 60,
      host: text('host'),
      port: number('port'),
      security: isRemote ? security : null,
      master: text('master'),
      access_key: text('access_key'),
      region: text('region'),
      bucket: text('bucket'),
      prefix: text('prefix'),
      folder: text('folder'),
      pace: number('pace'),
      subjects,
      ...flags,
      password: (form.get('password') as string | null) || null,
    }
    void run(async () => {
      if (source)
        await take(api.PUT('/api/storage-sources/{number}', { params: { path: { number: source.number } }, body }))
      else await take(api.POST('/api/storage-sources', { body }))
      done(`${body.name} is read now, and then every ${body.every_minutes} minutes.`)
    })
  }
  const flag = (name: keyof typeof flags, label: string) => (
    <Form.Check
      id={`source-${name}`}
      type="checkbox"
      label={label}
      checked={flags[name]}
      onChange={(event) => setFlags({ ...flags, [name]: event.target.checked })}
    />
  )
  const field = (
    name: 'host' | 'port' | 'master' | 'bucket' | 'prefix' | 'region' | 'access_key' | 'folder' | 'pace',
    label: string,
    more: Partial<React.ComponentProps<typeof Field>> = {},
  ) => <Field name={name} label={label} defaultValue={was?.[name] ?? ''} error={error} {...more} />
  return (
    <FormDialog
      id="source"
      title={source ? 'Change storage system' : 'Add storage system'}
      size="lg"
      submit={source ? 'Save' : 'Add'}
      busy={busy}
      trouble={!FIELDS.some((name) => isAbout(error, name)) && trouble}
      send={send}
      close={close}
    >
      <div className="lotform three">
        <Form.Group controlId="source-kind">
          <Form.Label>Kind</Form.Label>
          <Form.Select
            value={kind}
            disabled={source !== null}
            onChange={(event) => {
              setKind(event.target.value as Terms['kind'])
              if (security === 'starttls') setSecurity('tls')
            }}
          >
            <option value="imap">Mail store over IMAP</option>
            <option value="objects">Object store</option>
            {isOperator && <option value="tree">Tree of folders</option>}
            {isOperator && <option value="drop">Folder of dropped tables</option>}
          </Form.Select>
        </Form.Group>
        <Field name="name" label="Name" required maxLength={200} defaultValue={was?.name} error={error} />
        <Form.Group controlId="source-product">
          <Form.Label>Product</Form.Label>
          <Form.Select name="product" defaultValue={was?.product} key={products.length}>
            {products.map((each) => (
              <option key={each.product} value={each.product}>
                {each.name}
              </option>
            ))}
          </Form.Select>
        </Form.Group>
        <Form.Group controlId="source-account">
          <Form.Label>For</Form.Label>
          <AccountSelect value={below} onChange={setBelow} />
        </Form.Group>
        <Field
          name="every_minutes"
          label="Every, minutes"
          inputMode="numeric"
          defaultValue={String(was?.every_minutes ?? 60)}
          error={error}
        />
        {isRemote ? (
          <>
            {field('host', 'Server', { required: true })}
            <Form.Group controlId="source-security">
              <Form.Label>Security</Form.Label>
              <Form.Select
                value={security}
                onChange={(event) => setSecurity(event.target.value as NonNullable<Terms['security']>)}
              >
                <option value="tls">TLS</option>
                {kind === 'imap' && <option value="starttls">STARTTLS</option>}
                <option value="none">none</option>
              </Form.Select>
            </Form.Group>
            {field('port', 'Port', {
              inputMode: 'numeric',
              placeholder: { imap: ['143', '993'], objects: ['80', '443'] }[kind][Number(security === 'tls')],
            })}
            {kind === 'imap' ? (
              field('master', 'Master user', { required: true, autoComplete: 'off' })
            ) : (
              <>
                {field('bucket', 'Bucket', { required: true })}
                {field('prefix', 'Folder in it', { placeholder: 'all of it' })}
                {field('region', 'Region', { placeholder: 'us-east-1' })}
                {field('access_key', 'Access key', { required: true, autoComplete: 'off' })}
              </>
            )}
            <Field
              name="password"
              label={kind === 'imap' ? 'Password' : 'Secret key'}
              type="password"
              autoComplete="new-password"
              placeholder={source?.has_password ? 'as it is' : ''}
              error={error}
            />
          </>
        ) : (
          field('folder', 'Folder of this machine', { required: true, placeholder: '/srv/share' })
        )}
        {(kind === 'tree' || kind === 'objects') && (
          <Form.Group controlId="source-subjects">
            <Form.Label>Its folders are</Form.Label>
            <Form.Select value={subjects} onChange={(event) => setSubjects(event.target.value as Terms['subjects'])}>
              <option value="people">people, by username</option>
              <option value="accounts">accounts, by code</option>
            </Form.Select>
          </Form.Group>
        )}
        {kind === 'tree' && field('pace', 'Entries a second, at most', { inputMode: 'numeric', placeholder: 'any' })}
      </div>
      <div className="mt-2">
        {kind === 'imap' && flag('by_email', 'Mailboxes are called by e-mail address, not by username')}
        {kind === 'imap' && flag('sets_limits', 'Set the limits per person there')}
        {flag('paused', 'Paused')}
      </div>
    </FormDialog>
  )
}
