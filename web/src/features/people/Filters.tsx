import { useQuery } from '@tanstack/react-query'
import { Dropdown, Form } from 'react-bootstrap'
import { productsInSight } from '../../api/queries'
import { AccountSelect } from '../../components/AccountSelect'
import type { PeopleFilter } from './peopleFilter'
import { groupNames, seatProducts } from './queries'

/** Everything the list can be narrowed by, in one place; what is chosen stands in the address. */
export function Filters({
  asked,
  set,
}: {
  asked: PeopleFilter
  set: (changes: Record<string, string | null>) => void
}) {
  const inSight = useQuery(productsInSight).data ?? []
  const groups = useQuery(groupNames).data ?? []
  const products = useQuery(seatProducts).data ?? []
  const seats = inSight.filter((each) => each.measure === 'seat')
  const choose = (name: keyof PeopleFilter, label: string, options: [string, string][], value: string | null) => (
    <Form.Group controlId={`people-${name}`}>
      <Form.Label className="small quiet mb-0">{label}</Form.Label>
      <Form.Select value={value ?? ''} onChange={(event) => set({ [name]: event.target.value || null })}>
        <option value="">any</option>
        {options.map(([key, says]) => (
          <option key={key} value={key}>
            {says}
          </option>
        ))}
      </Form.Select>
    </Form.Group>
  )
  const said = (value: boolean | null) => (value === null ? null : value ? 'yes' : 'no')
  return (
    <Dropdown autoClose="outside">
      <Dropdown.Toggle variant="outline-primary" id="people-filters">
        Filter
      </Dropdown.Toggle>
      <Dropdown.Menu className="px-3 py-2" style={{ width: 440 }}>
        <div className="lotform">
          <Form.Group controlId="people-account">
            <Form.Label className="small quiet mb-0">Account and below</Form.Label>
            <AccountSelect
              value={asked.account ?? ''}
              any="any"
              onChange={(account) => set({ account: account || null })}
            />
          </Form.Group>
          {choose(
            'group',
            'Group',
            groups.map((each): [string, string] => [
              `${each.account}/${each.code}`,
              `${each.name} (${each.account_name})`,
            ]),
            asked.group,
          )}
          {choose(
            'product',
            'Has',
            seats.map((pool): [string, string] => [pool.product, pool.name]),
            asked.product,
          )}
          {choose(
            'without',
            'Does not have',
            seats.map((pool): [string, string] => [pool.product, pool.name]),
            asked.without,
          )}
          {choose(
            'component',
            'Has the component',
            products.flatMap((each) =>
              each.components.map((part): [string, string] => [
                `${each.code}/${part.code}`,
                `${part.code} of ${each.name}`,
              ]),
            ),
            asked.component,
          )}
          {choose(
            'status',
            'Status',
            [
              ['active', 'active'],
              ['invited', 'invited, not joined'],
              ['suspended', 'suspended'],
              ['removed', 'removed'],
            ],
            asked.status,
          )}
          {choose(
            'seen',
            'Last seen',
            [
              ['never', 'never'],
              ['30', 'not for 30 days'],
              ['60', 'not for 60 days'],
              ['90', 'not for 90 days'],
            ],
            asked.seen,
          )}
          {choose(
            'admin',
            'Runs an account',
            [
              ['yes', 'yes'],
              ['no', 'no'],
            ],
            said(asked.admin),
          )}
          {choose(
            'protected',
            'Protected',
            [
              ['yes', 'yes'],
              ['no', 'no'],
            ],
            said(asked.protected),
          )}
        </div>
        <Form
          className="mt-2"
          onSubmit={(event) => {
            event.preventDefault()
            set({ filter: ((new FormData(event.currentTarget).get('filter') as string | null) ?? '').trim() || null })
          }}
        >
          <Form.Label htmlFor="people-filter" className="small quiet mb-0">
            SCIM filter (RFC 7644), then Enter
          </Form.Label>
          <Form.Control
            id="people-filter"
            name="filter"
            key={asked.filter}
            defaultValue={asked.filter ?? ''}
            placeholder='title eq "Manager" and active eq true'
            spellCheck={false}
          />
        </Form>
      </Dropdown.Menu>
    </Dropdown>
  )
}
