import { useQuery } from '@tanstack/react-query'
import { Sure } from '../../components/Sure'
import { TableMenu } from '../../components/ExportMenu'
import { lazy, Suspense, useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { AccountSelect } from '../../components/AccountSelect'
import { api, take } from '../../api/client'
import { useAction } from '../../api/useAction'
import { productsInSight, useOnlyAccount } from '../../api/queries'
import { dayName, dayOf } from '../../domain/months'
import { Trouble, Wait } from '../../components/States'
import { DeviceTabs } from './DeviceTabs'
import { keys as keysQuery, CHANGES } from './queries'
import { DayField } from '../../components/DayField'

const PublicApi = lazy(() => import('./PublicApi').then((part) => ({ default: part.PublicApi })))

/** With which keys do devices and sessions begin? */
export default function KeysScreen() {
  const found = useQuery(keysQuery)
  const only = useOnlyAccount()
  const inSight = useQuery(productsInSight).data ?? []
  const [made, setMade] = useState<{ name: string; key: string } | null>(null)
  const [reading, setReading] = useState(false)
  const { run, trouble } = useAction(...CHANGES)
  if (found.isError) return <Trouble page="Keys" error={found.error} again={() => void found.refetch()} />
  if (!found.data) return <Wait what="the keys" />
  const make = (form: FormData) => {
    const text = (name: string) => ((form.get(name) as string | null) ?? '').trim()
    return run(async () => {
      const { key } = await take(
        api.POST('/api/devices/keys', {
          body: {
            account: text('account'),
            product: text('product'),
            name: text('name'),
            most: text('most') ? Number(text('most')) : null,
            last_day: text('last_day') || null,
          },
        }),
      )
      setMade({ name: text('name'), key })
    })
  }
  const withdraw = async (id: number) => {
    await run(() => take(api.DELETE('/api/devices/keys/{key_id}', { params: { path: { key_id: id } } })))
  }
  const products = inSight.filter((each) => ['device', 'session', 'storage'].includes(each.measure))
  return (
    <>
      <div className="bar tightbar">
        <h1>Keys</h1>
        <DeviceTabs at="keys" />
        <span className="grow" />
        {found.data.length > 0 && <TableMenu name="activation-keys" of="Activation keys" />}
      </div>
      <div className="scroll account" role="region" aria-label="Keys" tabIndex={0}>
        <div className="onecolumn wide">
          <section aria-label="Create activation key">
            <h2 className="sub">Create activation key</h2>
            <Form
              className="lotform three"
              onSubmit={(event) => {
                event.preventDefault()
                const form = event.currentTarget
                // What was refused stays to be mended.
                void make(new FormData(form)).then((done) => {
                  if (done) form.reset()
                })
              }}
            >
              <Form.Group controlId="key-name">
                <Form.Label>Name</Form.Label>
                <Form.Control name="name" required maxLength={200} placeholder="Wheelhouse machines" />
              </Form.Group>
              <Form.Group controlId="key-product">
                <Form.Label>Product</Form.Label>
                <Form.Select name="product">
                  {products.map((each) => (
                    <option key={each.product} value={each.product}>
                      {each.name}
                    </option>
                  ))}
                </Form.Select>
              </Form.Group>
              <Form.Group controlId="key-account">
                <Form.Label>Account</Form.Label>
                <AccountSelect
                  name="account"
                  defaultValue={only}
                  any="choose…"
                  required
                  only={(each) => each.status === 'active'}
                />
              </Form.Group>
              <Form.Group controlId="key-most">
                <Form.Label>
                  Devices at once, at most <span className="quiet">(empty = the cap)</span>
                </Form.Label>
                <Form.Control name="most" inputMode="numeric" pattern="[1-9][0-9]{0,5}" title="A number of devices" />
              </Form.Group>
              <Form.Group controlId="key-last">
                <Form.Label>
                  Last day <span className="quiet">(empty = open)</span>
                </Form.Label>
                <DayField name="last_day" />
              </Form.Group>
              <div className="align-self-end">
                <Button type="submit">Create key</Button>
              </div>
            </Form>
            {made && (
              <p className="mt-3 mb-0" role="status">
                Key “{made.name}”, shown only now: <code className="bigcode">{made.key}</code>{' '}
                <Button
                  size="sm"
                  variant="outline-primary"
                  onClick={() => void navigator.clipboard.writeText(made.key)}
                >
                  Copy
                </Button>
              </p>
            )}
            {trouble && (
              <p className="over mt-2 mb-0" role="alert">
                {trouble}
              </p>
            )}
          </section>
          <section aria-label="Activation keys">
            <h2 className="sub">Activation keys</h2>
            {found.data.length === 0 ? (
              <p className="quiet">
                None yet. A machine, or a session, begins with a key of its account; limits count as for everything
                else.
              </p>
            ) : (
              <table className="ledger tight">
                <thead>
                  <tr>
                    <th>Name</th>
                    <th>Ends with</th>
                    <th>Product</th>
                    <th>Account</th>
                    <th className="fig">Active</th>
                    <th className="fig">At most</th>
                    <th>Made</th>
                    <th>State</th>
                    <th>
                      <span className="visually-hidden">Do</span>
                    </th>
                  </tr>
                </thead>
                <tbody>
                  {found.data.map((each) => (
                    <tr key={each.id}>
                      <td>{each.name}</td>
                      <td>
                        <code>…{each.ending}</code>
                      </td>
                      <td>{each.product_name}</td>
                      <td>{each.account_name}</td>
                      <td className="fig">{each.measure === 'device' ? each.devices : ''}</td>
                      <td className="fig">{each.most ?? <span className="quiet">the cap</span>}</td>
                      <td>
                        {dayName(dayOf(each.made_at))} <span className="quiet">{each.made_by}</span>
                      </td>
                      <td>{each.withdrawn ? 'withdrawn' : each.last_day ? `to ${dayName(each.last_day)}` : 'valid'}</td>
                      <td>
                        {!each.withdrawn && (
                          <Sure
                            act="Withdraw"
                            of={each.name}
                            means="It can no longer be used."
                            run={() => void withdraw(each.id)}
                            inLine
                          />
                        )}
                      </td>
                    </tr>
                  ))}
                </tbody>
              </table>
            )}
            <p className="quiet small mt-2">
              Withdrawing a key ends nothing that began with it: revoke devices, or end sessions, for that. How software
              begins and reports:{' '}
              <button type="button" className="btn btn-link btn-sm p-0" onClick={() => setReading(true)}>
                Public API
              </button>
            </p>
          </section>
        </div>
      </div>
      {reading && (
        <Suspense fallback={null}>
          <PublicApi close={() => setReading(false)} />
        </Suspense>
      )}
    </>
  )
}
