import { keepPreviousData, queryOptions } from '@tanstack/react-query'
import { api, take, type Schemas } from '../../api/client'
import { usePages } from '../../components/usePages'

export type StorageRow = Schemas['StorageRow']
export type StorageTotal = Schemas['StorageTotal']
export type Size = Schemas['SizeBody']
export type What = 'accounts' | 'people' | 'folders' | 'categories'
export type Show = 'all' | 'near' | 'over' | 'growing' | 'untouched' | 'nobody'
export type Order = 'size' | 'week' | 'month' | 'quarter' | 'share' | 'used'

export const storageProducts = queryOptions({
  queryKey: ['storage', 'products'],
  queryFn: () => take(api.GET('/api/storage/products')),
  staleTime: 300_000,
})

/** What a branch stores, or stored at the end of a day (empty = now). */
export const storageTotal = (product: string, account: string, day: string) =>
  queryOptions({
    queryKey: ['storage', 'total', product, account, day],
    queryFn: () =>
      take(api.GET('/api/storage/total', { params: { query: { product, account, ...(day && { day }) } } })),
    retry: false,
    enabled: product !== '' && account !== '',
    placeholderData: keepPreviousData,
  })

export const storageSpread = (product: string, account: string) =>
  queryOptions({
    queryKey: ['storage', 'spread', product, account],
    queryFn: () => take(api.GET('/api/storage/spread', { params: { query: { product, account } } })),
  })

export const storageDetail = (product: string, row: StorageRow, what: Exclude<What, 'accounts'>) =>
  queryOptions({
    queryKey: ['storage', 'detail', product, row.account, what, row.name],
    queryFn: () =>
      take(
        api.GET('/api/storage/detail', { params: { query: { product, account: row.account, what, name: row.name } } }),
      ),
  })

export interface Asked {
  product: string
  account: string
  what: What
  show: Show
  order: Order
  find: string
  /** The day as of whose end; empty = now. */
  day: string
}

/** What of a filter and an order there is of accounts. */
export const ofAccounts = (show: Show, order: Order) => ({
  show: show === 'untouched' || show === 'nobody' ? ('all' as const) : show,
  order: order === 'used' ? ('size' as const) : order,
})

/** The list as far as it is on screen: accounts directly below one, or everything of a branch by its kind. */
export function useStored({ product, account, what, show, order, find, day }: Asked) {
  const as = day ? { day } : {}
  const fetch = (offset: number, limit: number) =>
    what === 'accounts'
      ? take(
          api.GET('/api/storage/accounts', {
            params: {
              query: {
                ...as,
                ...{ product, account, offset, limit, ...ofAccounts(show, order) },
              },
            },
          }),
        )
      : take(
          api.GET('/api/storage/rows', {
            params: { query: { ...as, product, account, what, show, order, find, offset, limit } },
          }),
        )
  const key = ['storage', 'rows', product, account, what, show, order, find, day]
  return usePages<StorageRow>(key, fetch, undefined, undefined, product !== '' && account !== '')
}
