import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Form } from 'react-bootstrap'
import type { Schemas } from '../../api/client'
import { accountsNamed, productsInSight } from '../../api/queries'
import { AddAccount } from '../../components/AddAccount'
import { parseUnits, unitName, units } from '../../domain/units'

export type Ceiling = Required<Schemas['CeilingBody']>

interface Props {
  ceilings: Ceiling[]
  change: (ceilings: Ceiling[]) => void
}

const same = (one: Ceiling, other: Ceiling) => one.owner === other.owner && one.product === other.product

/** Ceilings of single pools, where they differ from what holds for each pool of the product. */
export function PoolCeilings({ ceilings, change }: Props) {
  const products = useQuery(productsInSight).data ?? []
  const [product, setProduct] = useState('')
  const chosen = product || products[0]?.product || ''
  const names = useQuery(accountsNamed(ceilings.map((each) => each.owner ?? ''))).data ?? []
  const nameOf = (each: Ceiling) =>
    `${products.find((one) => one.product === each.product)?.name ?? each.product} of ${names.find((one) => one.account === each.owner)?.name ?? each.owner}`
  return (
    <details className="mt-2" open={ceilings.length > 0 || undefined}>
      <summary>Ceilings of one pool</summary>
      {ceilings.length > 0 && (
        <ul className="plain" aria-label="Ceilings by pool">
          {ceilings.map((each) => {
            const of = products.find((one) => one.product === each.product)
            const field = (name: 'at_once' | 'in_all', label: string) => (
              <label className="d-flex gap-1 align-items-baseline small">
                <span className="quiet">{label}</span>
                <Form.Control
                  size="sm"
                  style={{ width: 90 }}
                  inputMode="decimal"
                  placeholder="any"
                  aria-label={`${nameOf(each)}: ${label}`}
                  defaultValue={each[name] != null ? units(each[name], of?.per_unit ?? 1) : ''}
                  onChange={(event) =>
                    change(
                      ceilings.map((one) =>
                        same(one, each) ? { ...one, [name]: parseUnits(event.target.value, of?.per_unit ?? 1) } : one,
                      ),
                    )
                  }
                />
                <span className="quiet">{unitName(of?.unit ?? '', 2)}</span>
              </label>
            )
            return (
              <li key={`${each.owner ?? ''} ${each.product}`} className="d-flex gap-3 flex-wrap align-items-baseline">
                <span style={{ minWidth: 220 }}>{nameOf(each)}</span>
                {field('at_once', 'in one change')}
                {field('in_all', 'total')}
                <button
                  type="button"
                  className="btn btn-link btn-sm p-0"
                  aria-label={`Remove ${nameOf(each)}`}
                  onClick={() => change(ceilings.filter((one) => !same(one, each)))}
                >
                  Remove
                </button>
              </li>
            )
          })}
        </ul>
      )}
      <div className="lotform mt-1">
        <Form.Group controlId="pool-product">
          <Form.Label>Product</Form.Label>
          <Form.Select value={chosen} onChange={(event) => setProduct(event.target.value)}>
            {products.map((each) => (
              <option key={each.product} value={each.product}>
                {each.name}
              </option>
            ))}
          </Form.Select>
        </Form.Group>
        <AddAccount
          id="pool-owner"
          label="Owner of the pool"
          add={(owner) => {
            const made = { product: chosen, owner, in_all: null, at_once: null }
            if (!ceilings.some((each) => same(each, made))) change([...ceilings, made])
          }}
        />
      </div>
    </details>
  )
}
