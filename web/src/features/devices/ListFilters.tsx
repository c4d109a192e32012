import { useQuery } from '@tanstack/react-query'
import { Dropdown, Form } from 'react-bootstrap'
import { productsInSight } from '../../api/queries'
import { AccountSelect } from '../../components/AccountSelect'
import { useAddress, type Changes } from '../../components/address'
import type { Sorting } from '../../components/VirtualTable'
import { useNames } from '../drafts/names'

/** What of a list is asked for: words, a branch, a product, and an order. */
export interface ListFilter<S extends string> {
  find: string
  account: string | undefined
  product: string | undefined
  sort: S
  down: boolean
}

/** What the address asks for of a list that can be put in some orders, the first of them if it does not say. */
export function useListFilter<S extends string>(first: S, ...others: S[]) {
  const [params, change] = useAddress()
  const asked: ListFilter<S> = {
    find: params.get('find') ?? '',
    account: params.get('account') ?? undefined,
    product: params.get('product') ?? undefined,
    sort: [first, ...others].find((each) => each === params.get('sort')) ?? first,
    down: params.get('down') === 'yes',
  }
  return {
    asked,
    params,
    change,
    sorting: { key: asked.sort, down: asked.down },
    onSort: (next: Sorting) => change({ sort: next.key, down: next.down ? 'yes' : null }),
  }
}

/** The same for a file to keep. */
export const forFile = (asked: ListFilter<string>) => ({
  find: asked.find || undefined,
  account: asked.account,
  product: asked.product,
  sort: asked.sort,
  down: String(asked.down),
})

/** A branch and, of what is measured so, a product to narrow a list to. */
export function ListFilters({
  asked,
  measure,
  change,
}: {
  asked: ListFilter<string>
  measure?: string
  change: (changes: Changes) => void
}) {
  const inSight = useQuery(productsInSight).data ?? []
  const products = inSight
    .filter((each) => each.measure === measure)
    .map((each): [string, string] => [each.product, each.name])
  const choose = (name: 'product', label: string, options: [string, string][]) => (
    <Form.Group controlId={`narrow-${name}`} className="mb-2">
      <Form.Label className="small quiet mb-0">{label}</Form.Label>
      <Form.Select value={asked[name] ?? ''} onChange={(event) => change({ [name]: event.target.value || null })}>
        <option value="">any</option>
        {options.map(([key, says]) => (
          <option key={key} value={key}>
            {says}
          </option>
        ))}
      </Form.Select>
    </Form.Group>
  )
  return (
    <Dropdown autoClose="outside">
      <Dropdown.Toggle variant="outline-primary" id="narrow">
        Filter
      </Dropdown.Toggle>
      <Dropdown.Menu className="px-3 py-2" style={{ width: 300 }}>
        <Form.Group controlId="narrow-account" className="mb-2">
          <Form.Label className="small quiet mb-0">Account and below</Form.Label>
          <AccountSelect
            value={asked.account ?? ''}
            any="any"
            onChange={(account) => change({ account: account || null })}
          />
        </Form.Group>
        {measure && choose('product', 'Product', products)}
      </Dropdown.Menu>
    </Dropdown>
  )
}

/** What a list is narrowed to, each to be taken away. */
export function Chips({
  asked,
  change,
}: {
  asked: { account: string | undefined; product?: string | undefined }
  change: (changes: Changes) => void
}) {
  const names = useNames()
  const words = [
    ...(asked.account ? [['account', `of ${names.account(asked.account)}`]] : []),
    ...(asked.product ? [['product', names.product(asked.product)]] : []),
  ] as [string, string][]
  if (words.length === 0) return null
  return (
    <div className="chips" role="group" aria-label="Active filters">
      {words.map(([name, says]) => (
        <button
          type="button"
          key={name}
          className="chip"
          onClick={() => change({ [name]: null })}
          aria-label={`Remove filter: ${says}`}
        >
          {says} <span aria-hidden="true">×</span>
        </button>
      ))}
    </div>
  )
}
