import { useQuery } from '@tanstack/react-query'
import { Form } from 'react-bootstrap'
import { productsInSight } from '../../api/queries'
import type { Schemas } from '../../api/client'
import { parseUnits, unitName, units } from '../../domain/units'
import { groupNames } from '../people/queries'
import { PoolCeilings, type Ceiling } from './PoolCeilings'

export type Limits = Required<Omit<Schemas['LimitsBody'], 'ceilings'>> & { ceilings: Ceiling[] }

export const NO_LIMITS: Limits = {
  products: null,
  ceilings: [],
  groups: null,
  roles: null,
  caps: true,
  prices: true,
  rules: true,
}

/** Limits as the server tells them, whole. */
export function whole(limits: Schemas['LimitsBody'] | null | undefined): Limits {
  return { ...NO_LIMITS, ...limits } as Limits
}

/** Whether some limits limit anything. */
export function isFree(limits: Limits | null | undefined): boolean {
  return (
    !limits ||
    (!limits.products &&
      !limits.groups &&
      !limits.roles &&
      limits.ceilings.length === 0 &&
      limits.caps &&
      limits.prices &&
      limits.rules)
  )
}

/** Limits in a few words. */
export function limitsSaid(said: Schemas['LimitsBody'] | null | undefined): string {
  const limits = whole(said)
  if (isFree(limits)) return ''
  const some = (what: string, list: string[] | null) =>
    list ? `${list.length} ${what}${list.length === 1 ? '' : 's'}` : ''
  const not = (['caps', 'prices', 'rules'] as const).filter((each) => !limits[each])
  return [
    some('product', limits.products),
    limits.ceilings.length ? `${limits.ceilings.length} ceiling${limits.ceilings.length === 1 ? '' : 's'}` : '',
    some('group', limits.groups),
    some('role', limits.roles),
    not.length ? `no ${not.join(', ')}` : '',
  ]
    .filter(Boolean)
    .join(' · ')
}

interface Props {
  limits: Limits
  change: (limits: Limits) => void
  /** The roles they may give, where they may give any. */
  roles: Schemas['RoleBody'][]
}

/** How far a delegation goes beside its role: products and how much of each, groups, roles, caps, prices and rules. */
export function LimitsFields({ limits, change, roles }: Props) {
  const products = useQuery(productsInSight).data ?? []
  const groups = useQuery(groupNames).data ?? []
  const put = (part: Partial<Limits>) => change({ ...limits, ...part })
  const toggled = (list: string[] | null, all: string[], each: string, on: boolean) => {
    const now = new Set(list ?? all)
    if (on) now.add(each)
    else now.delete(each)
    return now.size === all.length ? null : [...now]
  }
  const ceiling = (product: string, name: 'at_once' | 'in_all', grains: number | null) => {
    const is = (each: Ceiling) => each.product === product && each.owner === null
    const there = limits.ceilings.find(is) ?? { product, owner: null, in_all: null, at_once: null }
    const now = { ...there, [name]: grains }
    const others = limits.ceilings.filter((each) => !is(each))
    put({ ceilings: now.in_all === null && now.at_once === null ? others : [...others, now] })
  }
  const names = groups.map((each) => `${each.account}/${each.code}`)
  return (
    <>
      <div className="overflow-x-auto">
        <table className="ledger tight" aria-label="Limits by product">
          <thead>
            <tr>
              <th>Product</th>
              <th>At most in one change</th>
              <th>Up to a total of</th>
            </tr>
          </thead>
          <tbody>
            {products.map((each) => {
              const has = limits.products === null || limits.products.includes(each.product)
              const most = limits.ceilings.find((one) => one.product === each.product && one.owner === null)
              const field = (name: 'at_once' | 'in_all', label: string) => (
                <div className="d-flex gap-1 align-items-baseline">
                  <Form.Control
                    size="sm"
                    style={{ width: 90 }}
                    inputMode="decimal"
                    placeholder="any"
                    aria-label={`${each.name}: ${label}`}
                    disabled={!has}
                    defaultValue={most?.[name] != null ? units(most[name], each.per_unit) : ''}
                    onChange={(event) => ceiling(each.product, name, parseUnits(event.target.value, each.per_unit))}
                  />
                  <span className="quiet small">{unitName(each.unit, 2)}</span>
                </div>
              )
              return (
                <tr key={each.product}>
                  <td>
                    <Form.Check
                      id={`may-${each.product}`}
                      label={each.name}
                      checked={has}
                      onChange={(event) =>
                        put({
                          products: toggled(
                            limits.products,
                            products.map((one) => one.product),
                            each.product,
                            event.target.checked,
                          ),
                        })
                      }
                    />
                  </td>
                  <td>{field('at_once', 'at most in one change')}</td>
                  <td>{field('in_all', 'up to a total of')}</td>
                </tr>
              )
            })}
          </tbody>
        </table>
      </div>
      <PoolCeilings
        ceilings={limits.ceilings.filter((each) => each.owner !== null)}
        change={(pools) => put({ ceilings: [...limits.ceilings.filter((each) => each.owner === null), ...pools] })}
      />
      <div className="lotform three mt-2">
        <div role="group" aria-label="May change">
          <div className="quiet small">May change</div>
          {(['caps', 'prices', 'rules'] as const).map((each) => (
            <Form.Check
              key={each}
              id={`may-change-${each}`}
              label={{ caps: 'Caps', prices: 'Prices', rules: 'Rules: thresholds, templates, reclaiming' }[each]}
              checked={limits[each]}
              onChange={(event) => put({ [each]: event.target.checked })}
            />
          ))}
        </div>
        <div role="group" aria-label="Groups they may change">
          <Form.Check
            id="only-groups"
            label="Only these groups"
            checked={limits.groups !== null}
            disabled={names.length === 0}
            onChange={(event) => put({ groups: event.target.checked ? [] : null })}
          />
          {limits.groups !== null && (
            <div className="choices">
              {groups.map((each, place) => (
                <Form.Check
                  key={names[place]}
                  id={`group-${names[place]}`}
                  label={`${each.name} · ${each.account_name}`}
                  checked={limits.groups?.includes(names[place] ?? '') ?? false}
                  onChange={(event) =>
                    put({
                      groups: event.target.checked
                        ? [...(limits.groups ?? []), names[place] ?? '']
                        : (limits.groups ?? []).filter((one) => one !== names[place]),
                    })
                  }
                />
              ))}
            </div>
          )}
        </div>
        {roles.length > 0 && (
          <div role="group" aria-label="Roles they may give">
            <div className="quiet small">Roles they may give</div>
            {roles.map((each) => (
              <Form.Check
                key={each.key}
                id={`role-${each.key}`}
                label={each.name}
                checked={limits.roles === null || limits.roles.includes(each.key)}
                onChange={(event) =>
                  put({
                    roles: toggled(
                      limits.roles,
                      roles.map((one) => one.key),
                      each.key,
                      event.target.checked,
                    ),
                  })
                }
              />
            ))}
          </div>
        )}
      </div>
    </>
  )
}
