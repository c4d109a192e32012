import { keepPreviousData, queryOptions } from '@tanstack/react-query'
import { api, take, type Schemas } from '../../api/client'

export type PriceBuyer = Schemas['PriceBuyer']

/** So many buyers a choice lists; where there are more they are found. */
export const LISTED = 200

/** The first buyers of a seller: those of a kind, or one alone. */
export const buyersOf = (seller: string, sought: { kind?: string; buyer?: string }) =>
  queryOptions({
    queryKey: ['statements', 'prices', seller, 'buyers', sought],
    queryFn: () =>
      take(
        api.GET('/api/prices/buyers/{seller}', { params: { path: { seller }, query: { ...sought, limit: LISTED } } }),
      ),
    placeholderData: keepPreviousData,
  })
