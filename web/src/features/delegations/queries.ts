import { queryOptions } from '@tanstack/react-query'
import { api, take } from '../../api/client'

/** Who runs what in one's branch, what nobody runs, and which roles there are. */
export const delegations = queryOptions({
  queryKey: ['delegations'],
  queryFn: () => take(api.GET('/api/delegations')),
  staleTime: 15_000,
})
