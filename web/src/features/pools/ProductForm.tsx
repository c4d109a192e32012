import { useQueryClient } from '@tanstack/react-query'
import { Button, Form, Modal } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { Field, isAbout, text } from '../../components/Field'
import { Trouble } from '../../components/States'

export type ProductBody = Schemas['ProductBody']

export const products = { queryKey: ['products'], queryFn: () => take(api.GET('/api/products')), staleTime: 30_000 }

const MEASURES: [ProductBody['measure'], string][] = [
  ['seat', 'seat: a named person'],
  ['device', 'device: an activation'],
  ['session', 'session: use at the same time'],
  ['item', 'item: numbered one by one'],
  ['storage', 'storage: bytes over time'],
]
const FIELDS = ['code', 'name', 'unit', 'family', 'requires', 'components', 'successor', 'tax_class']
const list = (typed: string) => typed.split(/[;,\s]+/).filter(Boolean)

/** A product: a new one, or what is known of one that is there. */
export function ProductForm({ product, close }: { product: ProductBody | null; close: () => void }) {
  const queries = useQueryClient()
  const { run, busy, error } = useAction()
  const send = async (form: FormData) => {
    const code = product?.code ?? text(form, 'code').toUpperCase()
    await run(async () => {
      await take(
        api.PUT('/api/products/{code}', {
          params: { path: { code }, query: { new: !product } },
          body: {
            name: text(form, 'name'),
            vendor: text(form, 'vendor'),
            measure: product?.measure ?? (text(form, 'measure') as ProductBody['measure']),
            unit: text(form, 'unit'),
            family: text(form, 'family'),
            requires: list(text(form, 'requires')),
            components: list(text(form, 'components')),
            successor: text(form, 'successor'),
            tax_class: text(form, 'tax_class'),
            idle: text(form, 'idle') === 'spread' ? 'spread' : 'retained',
          },
        }),
      )
      await queries.invalidateQueries()
      close()
    })
  }
  return (
    <Modal show onHide={close} animation={false} size="lg" aria-labelledby="product-title">
      <Form
        onSubmit={(event) => {
          event.preventDefault()
          void send(new FormData(event.currentTarget))
        }}
      >
        <Modal.Header closeButton>
          <Modal.Title as="h2" id="product-title">
            {product ? product.name : 'New product'}
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          <div className="lotform">
            <Field
              name="name"
              label="Name"
              error={error}
              required
              maxLength={200}
              defaultValue={product?.name}
              autoFocus
            />
            {product ? (
              <Field name="code" label="Code" value={product.code} readOnly />
            ) : (
              <Field
                name="code"
                label="Code"
                error={error}
                required
                maxLength={64}
                hint="Short; it cannot be changed"
              />
            )}
            <Form.Group controlId="measure">
              <Form.Label>What one unit is</Form.Label>
              <Form.Select name="measure" defaultValue={product?.measure ?? 'seat'} disabled={product !== null}>
                {MEASURES.map(([key, label]) => (
                  <option key={key} value={key}>
                    {label}
                  </option>
                ))}
              </Form.Select>
            </Form.Group>
            <Field
              name="unit"
              label="Called"
              error={error}
              maxLength={32}
              defaultValue={product?.unit}
              hint="In the singular; empty = as it is measured"
            />
            <Field name="vendor" label="Vendor" maxLength={200} defaultValue={product?.vendor} />
            <Field
              name="family"
              label="Family"
              error={error}
              maxLength={64}
              defaultValue={product?.family}
              hint="A person holds one product of a family"
            />
            <Field
              name="requires"
              label="Requires one of (codes)"
              error={error}
              defaultValue={product?.requires?.join(' ')}
              hint="For an add-on: its base products"
            />
            <Field
              name="successor"
              label="Succeeded by (code)"
              error={error}
              maxLength={64}
              defaultValue={product?.successor}
            />
            <Field
              name="tax_class"
              label="Tax class"
              error={error}
              maxLength={64}
              defaultValue={product?.tax_class}
              hint="Its percentage stands under Prices; empty = not taxed"
            />
            <Form.Group controlId="idle">
              <Form.Label>Cost of unused stock</Form.Label>
              <Form.Select name="idle" defaultValue={product?.idle ?? 'retained'}>
                <option value="retained">Borne by the pool’s owner</option>
                <option value="spread">Spread over who uses it</option>
              </Form.Select>
            </Form.Group>
            <div style={{ gridColumn: '1 / -1' }}>
              <Field
                name="components"
                label="Components of a bundle (codes)"
                error={error}
                defaultValue={product?.components?.join(' ')}
                hint="Add ! for always on"
              />
            </div>
          </div>
          {error !== null && !FIELDS.some((each) => isAbout(error, each)) && <Trouble error={error} />}
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-primary" onClick={close}>
            Cancel
          </Button>
          <Button type="submit" disabled={busy}>
            {product ? 'Save' : 'Add the product'}
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  )
}
