import { infiniteQueryOptions, keepPreviousData, queryOptions } from '@tanstack/react-query'
import { api, take, type Schemas } from '../../api/client'
import { usePages } from '../../components/usePages'
import { given, plain, type PeopleFilter, type Sort } from './peopleFilter'

export type PersonRow = Schemas['PersonRow']
export type PersonBody = Schemas['PersonBody']
export type GroupBody = Schemas['GroupBody']
export type Outcome = Schemas['OutcomeBody']

export const person = (username: string) =>
  queryOptions({
    queryKey: ['people', 'one', username],
    queryFn: () => take(api.GET('/api/people/{username}', { params: { path: { username } } })),
    retry: false,
  })

/** What the groups of the branch are called, account by account, by precedence. */
export const groupNames = queryOptions({
  queryKey: ['groups', 'names'],
  queryFn: () => take(api.GET('/api/groups/names')),
  staleTime: 30_000,
})

/** The groups that have some words, with how many are in each; more of them when asked for. */
export const groupsFound = (find: string) =>
  infiniteQueryOptions({
    queryKey: ['groups', 'list', find],
    queryFn: ({ pageParam }) => take(api.GET('/api/groups', { params: { query: { find, offset: pageParam } } })),
    initialPageParam: 0,
    getNextPageParam: (last, pages) => {
      const loaded = pages.reduce((sum, each) => sum + each.groups.length, 0)
      return loaded < last.total ? loaded : undefined
    },
    staleTime: 30_000,
    placeholderData: keepPreviousData,
  })

export const oneGroup = (account: string, code: string) =>
  queryOptions({
    queryKey: ['groups', 'one', account, code],
    queryFn: () => take(api.GET('/api/groups/{account}/{code}', { params: { path: { account, code } } })),
    staleTime: 30_000,
    retry: false,
  })

/** The components that accounts and groups of the branch bar. */
export const bars = queryOptions({
  queryKey: ['entitlements', 'bars'],
  queryFn: () => take(api.GET('/api/entitlements/bars')),
})

export const entitlements = queryOptions({
  queryKey: ['entitlements', 'list'],
  queryFn: () => take(api.GET('/api/entitlements')),
  staleTime: 30_000,
})

export const seatProducts = queryOptions({
  queryKey: ['entitlements', 'products'],
  queryFn: () => take(api.GET('/api/entitlements/products')),
  staleTime: 300_000,
})

/** Who waits for a seat, of a product or of all: how many, and so many of the first. */
export const seatQueue = (limit: number, product?: string) =>
  queryOptions({
    queryKey: ['entitlements', 'queue', product ?? '', limit],
    queryFn: () => take(api.GET('/api/entitlements/queue', { params: { query: { product, limit } } })),
    staleTime: 15_000,
  })

export type Waiting = Schemas['WaitingBody']

/** The same as far as they are on screen. */
export const useQueue = () =>
  usePages<Waiting>(['entitlements', 'queue', 'list'], (offset, limit) =>
    take(api.GET('/api/entitlements/queue', { params: { query: { offset, limit } } })),
  )

export const policies = queryOptions({
  queryKey: ['reclaim', 'policies'],
  queryFn: () => take(api.GET('/api/reclaim')),
})

export const reclaimRuns = queryOptions({
  queryKey: ['reclaim', 'runs'],
  queryFn: () => take(api.GET('/api/reclaim/runs')),
})

export const imports = queryOptions({
  queryKey: ['imports', 'list'],
  queryFn: () => take(api.GET('/api/people-imports')),
})

/** How far an import is; asked again each second while it is under way. */
export const importRun = (number: number) =>
  queryOptions({
    queryKey: ['imports', 'run', number],
    queryFn: () => take(api.GET('/api/people-imports/{import_id}', { params: { path: { import_id: number } } })),
    refetchInterval: (query) => (query.state.data?.state === 'running' ? 1000 : false),
    retry: false,
  })

export const importLook = (number: number) =>
  queryOptions({
    queryKey: ['imports', 'preview', number],
    queryFn: () =>
      take(api.GET('/api/people-imports/{import_id}/preview', { params: { path: { import_id: number } } })),
    retry: false,
    staleTime: Infinity,
  })

export const domains = queryOptions({ queryKey: ['domains', 'list'], queryFn: () => take(api.GET('/api/domains')) })

export const joinsWaiting = queryOptions({
  queryKey: ['domains', 'waiting'],
  queryFn: () => take(api.GET('/api/domains/waiting')),
  staleTime: 15_000,
})

export const seatsAside = queryOptions({
  queryKey: ['people', 'set aside'],
  queryFn: () => take(api.GET('/api/people/set-aside')),
})

export const views = queryOptions({ queryKey: ['people', 'views'], queryFn: () => take(api.GET('/api/people/views')) })

/** The people list as it is asked for. */
export function usePeople(asked: PeopleFilter, sort: Sort, down: boolean) {
  return usePages<PersonRow>(
    ['people', 'list', given(asked), sort, down],
    (offset, limit) =>
      take(api.GET('/api/people', { params: { query: { ...plain(asked), sort, down, offset, limit } } })),
    async () => (await take(api.GET('/api/people/count', { params: { query: plain(asked) } }))).count,
  )
}
