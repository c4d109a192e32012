import { QueryClient, type InvalidateOptions, type InvalidateQueryFilters, type QueryKey } from '@tanstack/react-query'

/**
 * A query client in which nothing asked before an act stands as its outcome: what is under way when it is to be asked
 * anew is given up, also where nothing has come yet. The library would wait for that first answer and keep it.
 */
export class FreshQueryClient extends QueryClient {
  override invalidateQueries<Key extends QueryKey = QueryKey>(
    filters?: InvalidateQueryFilters<Key>,
    options?: InvalidateOptions,
  ): Promise<void> {
    for (const query of this.getQueryCache().findAll({ ...filters, fetchStatus: 'fetching' }))
      // One on screen goes straight on to its next request; another starts again when it is shown.
      void query.cancel(query.isActive() ? { silent: true } : { revert: true })
    return super.invalidateQueries(filters, options)
  }
}
