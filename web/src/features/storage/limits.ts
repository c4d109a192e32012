import { queryOptions } from '@tanstack/react-query'
import { api, take } from '../../api/client'

/** The groups of an account itself. */
export const groupsOf = (account: string) =>
  queryOptions({
    queryKey: ['storage', 'groups', account],
    queryFn: async () => {
      const found = await take(api.GET('/api/groups', { params: { query: { find: account, limit: 200 } } }))
      return found.groups.filter((each) => each.account === account)
    },
  })

/** Whom a limit per person of an account, or of one of its groups, would put over or near it. */
export const limitPreview = (of: { product: string; account: string; group: string | null; limit: number | null }) =>
  queryOptions({
    queryKey: ['storage', 'preview', of.product, of.account, of.group ?? '', of.limit],
    queryFn: () => take(api.POST('/api/storage/preview', { body: of })),
  })
