import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { api, take, type Schemas } from '../api/client'
import { dayAfter, dayIn, dayName } from '../domain/months'
import { accountsFound, me, poolsNow, productsInSight, useCan } from '../api/queries'

/** A place to go, found by words. */
export interface FoundPlace {
  id: string
  name: string
  hint: string
  to: string
}

const EACH = 5
const ACTS = ['buy', 'renew', 'plan', 'share', 'ask']
const part = encodeURIComponent
const cell = (account: string, product: string) =>
  `/allocations?account=${part(account)}&product=${part(product)}&pools=all`

/** What goes by some words, of what the reader may see: products, accounts, cells, people, groups, lots, devices and
 * numbers. */
export function useFound(words: string[], asks: boolean): { places: FoundPlace[]; settled: boolean } {
  const buys = useCan('accounts.change')
  const asksFor = useCan('requests.make')
  const who = useQuery(me).data
  const running = who?.running
  const today = who?.now.slice(0, 10)
  const [pools, people, devices, statements] = [
    useCan('pools.see'),
    useCan('people.see'),
    useCan('devices.see'),
    useCan('statements.see'),
  ]
  const find = words.join(' ')
  const looks = asks && find.length > 1
  const products = useQuery({ ...productsInSight, enabled: looks }).data ?? []
  const has = (text: string, word: string) => text.toLowerCase().includes(word)
  const begins = (name: string, word: string) =>
    name
      .toLowerCase()
      .split(' ')
      .some((part) => part.startsWith(word))
  const isProduct = (word: string) => products.some((each) => begins(each.name, word))
  // "larkhill fieldbook": an account and a product; "statement larkhill": its statement.
  const ofProduct = words.filter(isProduct)
  const ofStatement = words.filter((word) => word.length > 3 && 'statements'.startsWith(word))
  const ofAccount = words.filter((word) => !ofProduct.includes(word) && !ofStatement.includes(word)).join(' ')
  const named = useQuery({ ...accountsFound(find), enabled: asks })
  const beside = useQuery({ ...accountsFound(ofAccount), enabled: looks && ofAccount !== find && ofAccount !== '' })
  const listed = { enabled: looks, staleTime: 30_000, placeholderData: keepPreviousData }
  const persons = useQuery({
    ...listed,
    queryKey: ['people', 'found', find],
    queryFn: () => take(api.GET('/api/people', { params: { query: { find, limit: EACH } } })),
    enabled: looks && people,
  })
  const groups = useQuery({
    ...listed,
    queryKey: ['groups', 'found', find],
    queryFn: () => take(api.GET('/api/groups', { params: { query: { find, limit: EACH } } })),
    enabled: looks && people,
  })
  const machines = useQuery({
    ...listed,
    queryKey: ['devices', 'found', find],
    queryFn: () => take(api.GET('/api/devices', { params: { query: { find, limit: EACH } } })),
    enabled: looks && devices,
  })
  const counted = products.find((each) => each.measure === 'item')?.product ?? ''
  const numbers = useQuery({
    ...listed,
    queryKey: ['items', 'found', counted, find],
    queryFn: () =>
      take(
        api.GET('/api/items/{product}', {
          params: { path: { product: counted }, query: { find, state: 'assigned', limit: EACH } },
        }),
      ),
    enabled: looks && devices && counted !== '' && /\d/.test(find),
  })
  // "renew fieldbook": an act and what it is done with.
  const ofAct = words.filter((word) => word.length > 2 && ACTS.some((act) => act.startsWith(word)))
  const others = words.filter((word) => !ofAct.includes(word))
  const does = (act: string) => ofAct.some((word) => act.startsWith(word))
  const acted = useQuery({
    ...poolsNow({ find: others.join(' '), limit: EACH }),
    enabled: looks && pools && ofAct.length > 0 && others.length > 0,
  })
  const own = useQuery({
    ...poolsNow({ owner: running?.account ?? '', limit: 200 }),
    enabled: looks && pools && running !== undefined && running.kind !== 'operator' && does('ask'),
  })
  const pooled = useQuery({ ...poolsNow({ find, limit: EACH }), enabled: looks && pools })
  const owned = pooled.data?.rows ?? []
  const settled = [acted, own, pooled, named, beside, persons, groups, machines, numbers].every(
    (each) => !each.isFetching,
  )
  if (!asks) return { places: [], settled }
  const cells =
    ofProduct.length && ofAccount
      ? (beside.data ?? []).slice(0, EACH).flatMap((account) =>
          products
            .filter((each) => ofProduct.every((word) => begins(each.name, word)))
            .map((each) => ({
              id: `cell ${account.account} ${each.product}`,
              name: `${each.name} · ${account.name}`,
              hint: 'allocation',
              to: cell(account.account, each.product),
            })),
        )
      : []
  const bills =
    statements && ofStatement.length && ofAccount
      ? (beside.data ?? []).slice(0, EACH).map((each) => ({
          id: `statement ${each.account}`,
          name: each.name,
          hint: 'statement',
          to: `/statements/${part(each.account)}`,
        }))
      : []
  if (!looks)
    return {
      settled,
      places: (named.data ?? []).map((each) => ({
        id: `account ${each.account}`,
        name: each.name,
        hint: each.under.length ? `in ${each.under.join(', ')}` : each.kind,
        to: `/accounts/${part(each.account)}`,
      })),
    }
  const all = (text: string) => words.every((word) => has(text, word))
  const pool = (each: Schemas['PoolBody'], more: string) =>
    `/pools?owner=${part(each.owner)}&product=${part(each.product)}${more}`
  const acts =
    ofAct.length && others.length
      ? (acted.data?.rows ?? [])
          .flatMap((each) => [
            ...(does('buy') && buys
              ? [{ id: `buy ${each.owner} ${each.product}`, name: `Buy ${each.name}`, to: pool(each, '&new=lot') }]
              : []),
            ...(does('share')
              ? [
                  {
                    id: `share ${each.owner} ${each.product}`,
                    name: `Share out ${each.name}`,
                    to: `${cell(each.owner, each.product)}&share=yes`,
                  },
                ]
              : []),
            ...each.lots.flatMap((lot) =>
              lot.last_day && lot.last_day >= each.now.day
                ? [
                    ...(does('renew') && buys
                      ? [
                          {
                            id: `renew ${lot.reference} ${each.product}`,
                            name: `Renew ${lot.reference} · ${each.name}`,
                            to: pool(each, `&renew=${part(lot.reference)}`),
                          },
                        ]
                      : []),
                    ...(does('plan')
                      ? [
                          {
                            id: `plan ${lot.reference} ${each.product}`,
                            name: `Plan the end of ${lot.reference} · ${each.name}`,
                            to: pool(each, `&plan=${dayAfter(lot.last_day)}`),
                          },
                        ]
                      : []),
                  ]
                : [],
            ),
          ])
          .map((each) => ({ ...each, hint: 'act' }))
      : []
  const asking =
    running && running.kind !== 'operator' && asksFor && does('ask')
      ? products
          .filter((each) => others.every((word) => has(each.name, word)))
          .filter((each) => !own.data?.rows.some((one) => one.product === each.product))
          .map((each) => ({
            id: `ask ${each.product}`,
            name: `Ask for more ${each.name}`,
            hint: 'act',
            to: `/accounts/${part(running.account)}?ask=${part(each.product)}`,
          }))
      : []
  const day = running ? dayIn(words.join(' '), today ?? '') : null
  const days = day
    ? [{ id: `day ${day}`, name: `Allocations as of ${dayName(day)}`, hint: 'day', to: `/allocations?on=${day}` }]
    : []
  const places: FoundPlace[] = [
    ...days,
    ...acts,
    ...asking,
    ...cells,
    ...bills,
    ...(named.data ?? []).slice(0, EACH).map((each) => ({
      id: `account ${each.account}`,
      name: each.name,
      hint: each.under.length ? `in ${each.under.join(', ')}` : each.kind,
      to: `/accounts/${part(each.account)}`,
    })),
    ...products
      .filter((each) => all(`${each.name} ${each.product}`))
      .slice(0, EACH)
      .map((each) => ({
        id: `product ${each.product}`,
        name: each.name,
        hint: 'product',
        to: `/products/${part(each.product)}`,
      })),
    ...owned
      .filter((each) => all(`${each.name} ${each.product} ${each.owner_name} ${each.owner}`))
      .map((each) => ({
        id: `pool ${each.owner} ${each.product}`,
        name: each.name,
        hint: `pool of ${each.owner_name}`,
        to: `/pools?owner=${part(each.owner)}&product=${part(each.product)}`,
      })),
    ...owned
      .flatMap((pool) => pool.lots.map((lot) => ({ pool, lot })))
      .filter(
        ({ pool, lot }) =>
          all(`${lot.reference} ${pool.name} ${pool.product}`) && words.some((word) => has(lot.reference, word)),
      )
      .slice(0, EACH)
      .map(({ pool, lot }) => ({
        id: `lot ${pool.owner} ${pool.product} ${lot.reference}`,
        name: lot.reference,
        hint: `order of ${pool.name}`,
        to: `/pools?owner=${part(pool.owner)}&product=${part(pool.product)}`,
      })),
    ...(persons.data?.rows ?? []).map((each) => ({
      id: `person ${each.username}`,
      name: each.name,
      hint: `${each.account_name}, ${each.email ?? each.username}`,
      to: `/people/${part(each.username)}`,
    })),
    ...(groups.data?.groups ?? []).slice(0, EACH).map((each) => ({
      id: `group ${each.account} ${each.code}`,
      name: each.name,
      hint: `group in ${each.account_name}`,
      to: `/groups?group=${part(`${each.account}/${each.code}`)}`,
    })),
    ...(machines.data?.rows ?? []).map((each) => ({
      id: `device ${each.machine}`,
      name: each.name ?? each.machine,
      hint: `device of ${each.account_name}`,
      to: `/devices?find=${part(each.machine)}`,
    })),
    ...(numbers.data?.rows ?? []).map((each) => ({
      id: `number ${each.number}`,
      name: each.number,
      hint: `number of ${each.account_name ?? ''}`,
      to: `/numbers?product=${part(counted)}&find=${part(each.number)}`,
    })),
  ]
  return { places, settled }
}
