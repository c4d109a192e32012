import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { bars as barsQuery, entitlements as entitlementsQuery, seatProducts } from './queries'

type Body = Schemas['LayerGives']
type ReconcileBody = Schemas['ReconcileBody']

/** What a layer gives: an account to everybody of its branch, or a group to its people. Whom a change touches is shown before it is made. */
export function EntitlementsEditor({ account, group }: { account: string; group: string | null }) {
  const all = useQuery(entitlementsQuery)
  const products = useQuery(seatProducts).data ?? []
  const [editing, setEditing] = useState<Body | null>(null)
  const mine = (all.data ?? []).filter((each) => each.account === account && each.group === group)
  const free = products.filter((product) => !mine.some((each) => each.product === product.code))
  return (
    <section aria-label="Group entitlements">
      <h2 className="sub">{group ? 'Group entitlements' : 'Default entitlements'}</h2>
      {mine.length > 0 && (
        <table className="ledger tight">
          <thead>
            <tr>
              <th>Product</th>
              <th>Components that are on</th>
              <th className="fig">Priority</th>
              <th>
                <span className="visually-hidden">Change</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {mine.map((each) => (
              <tr key={each.product}>
                <td>{each.product_name}</td>
                <td>{each.components.join(', ') || <span className="quiet">all</span>}</td>
                <td className="fig">{each.priority}</td>
                <td className="fig">
                  <button
                    type="button"
                    className="btn btn-link btn-sm p-0"
                    aria-label={`Change ${each.product_name}`}
                    onClick={() =>
                      setEditing({
                        account,
                        group,
                        product: each.product,
                        components: each.components,
                        priority: each.priority,
                      })
                    }
                  >
                    Change
                  </button>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {editing ? (
        <Editor
          key={editing.product}
          start={editing}
          there={mine.some((each) => each.product === editing.product)}
          products={products}
          choose={free}
          close={() => setEditing(null)}
        />
      ) : (
        free.length > 0 && (
          <Button
            size="sm"
            variant="outline-primary"
            className="mt-1"
            onClick={() =>
              setEditing({
                account,
                group,
                product: free[0]?.code ?? '',
                components: (free[0]?.components ?? []).map((each) => each.code),
                priority: 100,
              })
            }
          >
            Add entitlement…
          </Button>
        )
      )}
      <Barred account={account} group={group} products={products} />
    </section>
  )
}

/** Components that are off here whatever layers give; of a mandatory one there is no bar. */
function Barred({
  account,
  group,
  products,
}: {
  account: string
  group: string | null
  products: Schemas['SeatProduct'][]
}) {
  const bars = useQuery(barsQuery).data ?? []
  const { run, trouble } = useAction('entitlements', 'people', 'log')
  const mine = bars.filter((each) => each.account === account && each.group === group)
  const free = products.flatMap((product) =>
    product.components
      .filter(
        (each) => !each.mandatory && !mine.some((bar) => bar.product === product.code && bar.component === each.code),
      )
      .map((each) => ({ product, component: each.code })),
  )
  const set = async (product: string, component: string, barred: boolean) => {
    await run(async () => {
      await take(api.PUT('/api/entitlements/bars', { body: { account, group, product, component, barred } }))
    })
  }
  if (mine.length === 0 && free.length === 0) return null
  const name = (code: string) => products.find((each) => each.code === code)?.name ?? code
  return (
    <div className="d-flex gap-3 flex-wrap align-items-center mt-2 mb-2">
      {mine.map((each) => (
        <span key={`${each.product} ${each.component}`} className="small">
          {each.component} of {name(each.product)} is barred{' '}
          <button
            type="button"
            className="btn btn-link btn-sm p-0"
            aria-label={`Allow ${each.component} of ${name(each.product)} again`}
            onClick={() => void set(each.product, each.component, false)}
          >
            Allow again
          </button>
        </span>
      ))}
      {free.length > 0 && (
        <Form
          className="d-flex gap-2 align-items-center flex-wrap"
          onSubmit={(event) => {
            event.preventDefault()
            const [product = '', component = ''] = (new FormData(event.currentTarget).get('bar') as string).split(' ')
            void set(product, component, true)
          }}
        >
          <Form.Label htmlFor="component-to-bar" className="m-0 small">
            Bar a component
          </Form.Label>
          <Form.Select id="component-to-bar" name="bar" size="sm" style={{ width: 240 }}>
            {free.map((each) => (
              <option key={`${each.product.code} ${each.component}`} value={`${each.product.code} ${each.component}`}>
                {each.component} of {each.product.name}
              </option>
            ))}
          </Form.Select>
          <Button type="submit" size="sm" variant="outline-primary">
            Bar
          </Button>
        </Form>
      )}
      {trouble && (
        <p className="over small m-0" role="alert">
          {trouble}
        </p>
      )}
    </div>
  )
}

function Editor({
  start,
  there,
  products,
  choose,
  close,
}: {
  start: Body
  there: boolean
  products: Schemas['SeatProduct'][]
  choose: Schemas['SeatProduct'][]
  close: () => void
}) {
  const [body, setBody] = useState(start)
  const [away, setAway] = useState(false)
  const { run, busy, trouble } = useAction(
    'entitlements',
    'people',
    'groups',
    'allocations',
    'accounts',
    'today',
    'log',
    'pools',
  )
  const product = products.find((each) => each.code === body.product)
  const looked = useQuery({
    queryKey: ['entitlements', 'preview', body, away],
    queryFn: () => take(api.POST('/api/entitlements/preview', { params: { query: { away } }, body })),
    retry: false,
    gcTime: 0,
  })
  const keep = async () => {
    await run(async () => {
      await take(away ? api.POST('/api/entitlements/remove', { body }) : api.PUT('/api/entitlements', { body }))
      // Closed before the lists come anew: whoever opens another meanwhile keeps it open.
      close()
    })
  }
  return (
    <Form
      className="gives"
      onSubmit={(event) => {
        event.preventDefault()
        void keep()
      }}
    >
      <div className="lotform">
        <Form.Group controlId="gives-product">
          <Form.Label>Product</Form.Label>
          <Form.Select
            value={body.product}
            disabled={there}
            autoFocus={!there}
            onChange={(event) =>
              setBody({
                ...body,
                product: event.target.value,
                components: (products.find((each) => each.code === event.target.value)?.components ?? []).map(
                  (each) => each.code,
                ),
              })
            }
          >
            {(there && product ? [product] : choose).map((each) => (
              <option key={each.code} value={each.code}>
                {each.name}
              </option>
            ))}
          </Form.Select>
        </Form.Group>
        <Form.Group controlId="gives-priority">
          <Form.Label>
            Priority <span className="quiet">(1 gets its seats first)</span>
          </Form.Label>
          <Form.Control
            value={body.priority}
            inputMode="numeric"
            onChange={(event) =>
              setBody({ ...body, priority: Number(event.target.value.replace(/\D/g, '').slice(0, 4)) })
            }
          />
        </Form.Group>
      </div>
      {product && product.components.length > 0 && (
        <fieldset className="d-flex gap-3 flex-wrap mt-2">
          <legend className="visually-hidden">Components</legend>
          {product.components.map((each) => (
            <Form.Check
              key={each.code}
              id={`gives-${each.code}`}
              label={each.mandatory ? `${each.code} (always on)` : each.code}
              disabled={each.mandatory}
              checked={each.mandatory || body.components.includes(each.code)}
              onChange={(event) =>
                setBody({
                  ...body,
                  components: event.target.checked
                    ? [...body.components, each.code]
                    : body.components.filter((code) => code !== each.code),
                })
              }
            />
          ))}
          {body.components.length === 0 && <span className="quiet small">None chosen: all are on.</span>}
        </fieldset>
      )}
      {looked.isError ? (
        <p className="over small mt-2 mb-0" role="alert">
          {looked.error.message}
        </p>
      ) : (
        looked.data && <Touched laid={looked.data} />
      )}
      {trouble && (
        <p className="over small mt-2 mb-0" role="alert">
          {trouble}
        </p>
      )}
      <div className="d-flex gap-2 mt-2 align-items-center">
        <Button type="submit" disabled={busy || looked.isError || !looked.data}>
          {away ? 'Remove' : there ? 'Save' : 'Add'}
        </Button>
        <Button variant="outline-primary" onClick={close}>
          Cancel
        </Button>
        {there && (
          <Form.Check
            id="gives-away"
            label="Remove entitlement"
            checked={away}
            onChange={(event) => setAway(event.target.checked)}
          />
        )}
      </div>
    </Form>
  )
}

/** Whom a change of a layer touches: who gains, who loses, who waits and why. */
export function Touched({ laid }: { laid: ReconcileBody }) {
  const some = (names: string[], count: number) =>
    `${names.slice(0, 12).join(', ')}${count > 12 ? ` and ${count - 12} more` : ''}`
  return (
    <div className="small mt-2" role="status">
      <b className="good">{laid.given}</b> {laid.given === 1 ? 'seat is' : 'seats are'} given,{' '}
      <b className={laid.taken ? 'over' : undefined}>{laid.taken}</b> taken back,{' '}
      <b className={laid.waiting ? 'near' : undefined}>{laid.waiting}</b>{' '}
      {laid.waiting === 1 ? 'person waits' : 'people wait'}
      {laid.given > 0 && <div className="quiet">given to {some(laid.given_to, laid.given)}</div>}
      {laid.taken > 0 && <div className="quiet">taken back from {some(laid.taken_from, laid.taken)}</div>}
      {Object.entries(laid.reasons).map(([why, count]) => (
        <div key={why} className="near">
          {count} because: {why}
        </div>
      ))}
    </div>
  )
}
