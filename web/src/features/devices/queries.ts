import { queryOptions, useQueryClient } from '@tanstack/react-query'
import { api, take, type Schemas } from '../../api/client'
import { usePages } from '../../parts/usePages'

export type Device = Schemas['DeviceBody']
export type Item = Schemas['ItemBody']
export type ItemState = Item['state']

export const keys = queryOptions({ queryKey: ['devices', 'keys'], queryFn: () => take(api.GET('/api/devices/keys')) })

export const publicKey = queryOptions({ queryKey: ['devices', 'public key'], queryFn: () => take(api.GET('/api/public/devices/public-key')), staleTime: Infinity })

/** Sessions come and go by themselves: asked again while they are looked at. */
export const sessions = (username?: string) =>
  queryOptions({ queryKey: ['sessions', username ?? ''], queryFn: () => take(api.GET('/api/sessions', { params: { query: username ? { username } : {} } })), refetchInterval: 10_000 })

export const devicesOf = (username: string) =>
  queryOptions({ queryKey: ['devices', 'of', username], queryFn: () => take(api.GET('/api/devices', { params: { query: { username } } })) })

export const itemsOf = (product: string, username: string) =>
  queryOptions({ queryKey: ['items', 'of', product, username], queryFn: () => take(api.GET('/api/items/{product}', { params: { path: { product }, query: { username } } })) })

export function useDevices(find: string, revoked: boolean) {
  return usePages<Device>(['devices', 'list', find, revoked], (offset, limit) => take(api.GET('/api/devices', { params: { query: { find, revoked, offset, limit } } })))
}

export function useItems(product: string, state: ItemState, find: string) {
  return usePages<Item>(['items', 'list', product, state, find], (offset, limit) =>
    product ? take(api.GET('/api/items/{product}', { params: { path: { product }, query: { state, find, offset, limit } } })) : Promise.resolve({ total: 0, rows: [] }))
}

/** Whatever shows units in use is asked for anew. */
export function useFresh() {
  const queries = useQueryClient()
  return () => Promise.all(['devices', 'items', 'sessions', 'people', 'allocations', 'accounts', 'today', 'pools', 'log'].map((key) => queries.invalidateQueries({ queryKey: [key] })))
}
