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
    for (const query of this.getQueryCache().findAll({ ...filters, fetchStatus: 'fetching' })) {
      void query.cancel({ silent: true })
      // What is on screen is asked for anew below; somebody may wait for another one.
      if (!query.isActive()) query.fetch().catch(() => undefined)
    }
    return super.invalidateQueries(filters, options)
  }
}
