import { queryOptions } from '@tanstack/react-query'
import { api, take, type Schemas } from '../../api/client'
import { usePages } from '../../components/usePages'
import { plain } from '../people/peopleFilter'
import type { ListFilter } from './ListFilters'

export type Device = Schemas['DeviceBody']
export type Item = Schemas['NumberBody']
export type ItemState = Item['state']
export type Session = Schemas['SessionBody']
export type DeviceSort = 'machine' | 'product' | 'account' | 'person' | 'since' | 'reported'
export type SessionSort = 'person' | 'product' | 'account' | 'machine' | 'began'
export type ItemSort = 'number' | 'account' | 'person' | 'address' | 'since'

export const keys = queryOptions({ queryKey: ['devices', 'keys'], queryFn: () => take(api.GET('/api/devices/keys')) })

export const publicKey = queryOptions({
  queryKey: ['devices', 'public key'],
  queryFn: () => take(api.GET('/api/public/devices/public-key')),
  staleTime: Infinity,
})

/** Sessions come and go by themselves: asked again while they are looked at. */
const COMES_AND_GOES = 10_000

export const sessionsOf = (username: string) =>
  queryOptions({
    queryKey: ['sessions', 'of', username],
    queryFn: () => take(api.GET('/api/sessions', { params: { query: { username } } })),
    refetchInterval: COMES_AND_GOES,
  })

export const devicesOf = (username: string) =>
  queryOptions({
    queryKey: ['devices', 'of', username],
    queryFn: () => take(api.GET('/api/devices', { params: { query: { username } } })),
  })

export const itemsOf = (product: string, username: string) =>
  queryOptions({
    queryKey: ['items', 'of', product, username],
    queryFn: () => take(api.GET('/api/items/{product}', { params: { path: { product }, query: { username } } })),
  })

export function useDevices(asked: ListFilter<DeviceSort>, revoked: boolean) {
  return usePages<Device>(['devices', 'list', asked, revoked], (offset, limit) =>
    take(api.GET('/api/devices', { params: { query: { ...plain(asked), revoked, offset, limit } } })),
  )
}

export function useSessions(asked: ListFilter<SessionSort>) {
  return usePages<Session>(
    ['sessions', 'list', asked],
    (offset, limit) => take(api.GET('/api/sessions', { params: { query: { ...plain(asked), offset, limit } } })),
    undefined,
    COMES_AND_GOES,
  )
}

export function useItems(product: string, state: ItemState, { find, account, sort, down }: ListFilter<ItemSort>) {
  const query = plain({ state, find, account, sort, down })
  return usePages<Item>(['items', 'list', product, query], (offset, limit) =>
    product
      ? take(api.GET('/api/items/{product}', { params: { path: { product }, query: { ...query, offset, limit } } }))
      : Promise.resolve({ total: 0, rows: [] }),
  )
}

/** What a change of units in use changes. */
export const CHANGES = ['devices', 'items', 'sessions', 'people', 'allocations', 'accounts', 'today', 'pools', 'log']
