import { keepPreviousData, queryOptions } from '@tanstack/react-query'
import { api, take } from '../../api/client'

/** Delegations by account in one's branch, what nobody runs, and which roles there are. */
export const delegationsFound = (find: string) =>
  queryOptions({
    queryKey: ['delegations', 'found', find],
    queryFn: () => take(api.GET('/api/delegations', { params: { query: { find } } })),
    staleTime: 15_000,
    placeholderData: keepPreviousData,
  })
export const delegations = delegationsFound('')
