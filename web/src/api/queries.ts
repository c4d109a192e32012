import { reckonIn } from '../domain/months'
import { infiniteQueryOptions, keepPreviousData, queryOptions, useQuery } from '@tanstack/react-query'
import { api, ApiError, take, type Schemas } from './client'

/** One factory a question: its key, how it is asked, and its type. */

export type Grid = Schemas['AllocationGrid']
export type Pool = Schemas['GridPool']
export type AccountChoice = Schemas['AccountChoice']
export type ProductName = Schemas['ProductName']
export type Cell = Schemas['CellBody']
export type Effect = Schemas['EffectBody']
export type DraftBody = Schemas['DraftBody']
export type DraftSummary = Schemas['DraftSummary']
export type RequestBody = Schemas['RequestBody']
export type AccountBody = Schemas['AccountBody']
export type LadderBody = Schemas['LadderBody']
export type Statement = Schemas['StatementBody']
export type Line = Schemas['StatementLine']
export type Today = Schemas['TodayBody']
export type Act = Schemas['LoggedAct']
export type SaidEntry = Schemas['SaidEntry']
export type Me = Schemas['Me']

/** Whether one's role here has a permission; which there are stands in the API. */
export function useCan(permission: string): boolean {
  return useQuery(me).data?.running.permissions.includes(permission) ?? false
}

export const me = queryOptions({
  queryKey: ['me'],
  queryFn: async () => {
    const found = await take(api.GET('/api/me'))
    if (found) reckonIn(found.time_zone)
    return found
  },
  staleTime: 60_000,
})

/** Which cells are others on one day than on another; null = today. */
export const daysCompared = (on: string, against: string | null, products: string[]) =>
  queryOptions({
    queryKey: ['allocations', 'differences', on, against, products],
    queryFn: () =>
      take(
        api.GET('/api/allocations/differences', {
          params: { query: { on, product: products, ...(against ? { against } : {}) } },
        }),
      ),
    staleTime: 15_000,
  })

/** One account's own cells in every pool that reaches it. */
export const gridOf = (account: string) =>
  queryOptions({
    queryKey: ['allocations', 'of', account],
    queryFn: () => take(api.GET('/api/allocations', { params: { query: { account: [account] } } })),
    staleTime: 15_000,
    placeholderData: keepPreviousData,
  })

/** One's sessions, and how many recovery codes are left; none without a second factor. */
export const own = queryOptions({ queryKey: ['own'], queryFn: () => take(api.GET('/api/own')) })

/** The accounts of the branch to choose from; of a large one only its top, and others by a finder. */
export const accountChoices = queryOptions({
  queryKey: ['accounts', 'choices'],
  queryFn: () => take(api.GET('/api/accounts/choices')),
  staleTime: 60_000,
})

/** The one account of the branch, where there is no other to mistake it for. */
export function useOnlyAccount(): string {
  const found = useQuery(accountChoices).data
  return found?.total === 1 ? (found.accounts[0]?.account ?? '') : ''
}

/** What accounts of these codes are called. */
export const accountsNamed = (codes: string[]) =>
  queryOptions({
    queryKey: ['accounts', 'named', codes],
    queryFn: async () =>
      (await take(api.GET('/api/accounts/choices', { params: { query: { code: codes } } }))).accounts,
    enabled: codes.length > 0,
    staleTime: 300_000,
    placeholderData: keepPreviousData,
  })

export const productsInSight = queryOptions({
  queryKey: ['allocations', 'products'],
  queryFn: () => take(api.GET('/api/allocations/products')),
  staleTime: 300_000,
})

export const cell = (account: string, product: string, on: string | null = null) =>
  queryOptions({
    queryKey: ['allocations', 'cell', account, product, on],
    queryFn: () =>
      take(
        api.GET('/api/allocations/cell', { params: { query: on ? { account, product, on } : { account, product } } }),
      ),
    staleTime: 15_000,
    placeholderData: keepPreviousData,
  })

export const historyOf = (account: string, product: string) =>
  queryOptions({
    queryKey: ['allocations', 'history', account, product],
    queryFn: () => take(api.GET('/api/allocations/history', { params: { query: { account, product } } })),
  })

/** How the servers do; asked again while one looks. */
export const serverNow = queryOptions({
  queryKey: ['server'],
  queryFn: () => take(api.GET('/api/server')),
  refetchInterval: 10_000,
})

/** No figures but those of the cells that a draft changes. */
const NONE_BESIDES = ['']

export const draftNow = (id: number | null) =>
  queryOptions({
    queryKey: ['drafts', 'open', id],
    queryFn: () =>
      id === null
        ? take(api.GET('/api/drafts/current', { params: { query: { shown: NONE_BESIDES } } }))
        : take(
            api.GET('/api/drafts/{draft_id}', { params: { path: { draft_id: id }, query: { shown: NONE_BESIDES } } }),
          ),
    retry: false,
  })

/** What a draft does to the cells it changes and to those of the accounts that are shown, and one cell's ladder. */
export const draftLooked = (
  id: number,
  revision: number,
  look: { account: string; product: string } | null,
  shown: string[],
) =>
  queryOptions({
    queryKey: ['drafts', 'looked', id, revision, look, shown],
    queryFn: () =>
      take(
        api.GET('/api/drafts/{draft_id}', {
          params: {
            path: { draft_id: id },
            query: { ...look, shown: shown.length ? shown : NONE_BESIDES, bare: true },
          },
        }),
      ),
    staleTime: 15_000,
    retry: false,
    placeholderData: keepPreviousData,
  })

export const drafts = queryOptions({ queryKey: ['drafts', 'list'], queryFn: () => take(api.GET('/api/drafts')) })

export const draftDetail = (id: number) =>
  queryOptions({
    queryKey: ['drafts', 'detail', id],
    queryFn: () =>
      take(api.GET('/api/drafts/{draft_id}', { params: { path: { draft_id: id }, query: { shown: NONE_BESIDES } } })),
  })

/** How far a month is, and what its buyers (or those found) come to. */
export const buyersSums = (month: string, find: string) =>
  queryOptions({
    queryKey: ['statements', month, 'sums', find],
    queryFn: () => take(api.GET('/api/statement-sums', { params: { query: { month, find } } })),
    staleTime: 60_000,
    placeholderData: keepPreviousData,
    // While the month is still being worked out.
    refetchInterval: (query) =>
      query.state.error instanceof ApiError && query.state.error.status === 503 ? 5000 : false,
  })

/** A statement as soon as it can be there: without its costs where these have to be worked out. */
export const statement = (buyer: string, month: string, against?: string) =>
  queryOptions({
    queryKey: ['statements', month, buyer, 'against', against],
    queryFn: () =>
      take(
        api.GET('/api/statements/{buyer}', {
          params: { path: { buyer }, query: { month, wait: false, ...(against && { against }) } },
        }),
      ),
    staleTime: 60_000,
    placeholderData: keepPreviousData,
  })

/** The same with its costs, however long these take. */
export const statementWithCosts = (buyer: string, month: string, against: string | undefined, wanted: boolean) =>
  queryOptions({
    queryKey: ['statements', month, buyer, 'against', against, 'costs'],
    queryFn: () =>
      take(
        api.GET('/api/statements/{buyer}', {
          params: { path: { buyer }, query: { month, ...(against && { against }) } },
        }),
      ),
    staleTime: 60_000,
    enabled: wanted,
  })

/** What a buyer's running month may come to. */
export const forecast = (buyer: string, month: string, running: boolean) =>
  queryOptions({
    queryKey: ['statements', month, buyer, 'forecast'],
    queryFn: () => take(api.GET('/api/statements/{buyer}/forecast', { params: { path: { buyer }, query: { month } } })),
    staleTime: 60_000,
    enabled: running,
  })

/** What an account may cost a month, and how far that is spent. */
export const budget = (account: string) =>
  queryOptions({
    queryKey: ['budgets', account],
    queryFn: () => take(api.GET('/api/budgets/{account}', { params: { path: { account } } })),
    staleTime: 60_000,
    retry: false,
  })

/** Which budgets so many units more of a product would pass. */
export const wouldPass = (account: string, product: string, more: number, sees: boolean) =>
  queryOptions({
    queryKey: ['budgets', account, product, more],
    queryFn: () =>
      take(api.GET('/api/budgets/{account}/with', { params: { path: { account }, query: { product, more } } })),
    enabled: sees && more > 0,
    staleTime: 60_000,
    retry: false,
  })

/** What a buyer is charged for a month, without what it cost its seller. */
export const charged = (buyer: string, month: string) =>
  queryOptions({
    queryKey: ['statements', month, buyer, 'charged'],
    queryFn: () =>
      take(api.GET('/api/statements/{buyer}', { params: { path: { buyer }, query: { month, costs: false } } })),
    staleTime: 60_000,
    retry: false,
  })

export const evidence = (buyer: string, product: string, day: string) =>
  queryOptions({
    queryKey: ['statements', 'evidence', buyer, product, day],
    queryFn: () =>
      take(
        api.GET('/api/statements/{buyer}/{product}/evidence', { params: { path: { buyer, product }, query: { day } } }),
      ),
    staleTime: 60_000,
    placeholderData: keepPreviousData,
  })

export const today = queryOptions({
  queryKey: ['today'],
  queryFn: () => take(api.GET('/api/today')),
  staleTime: 30_000,
})

/** The notices of one's branch, newest first; those about caps are among them where that is said. */
export const notices = (caps: boolean) =>
  infiniteQueryOptions({
    queryKey: ['notices', 'all', caps],
    queryFn: ({ pageParam }) => take(api.GET('/api/notices', { params: { query: { caps, before: pageParam } } })),
    initialPageParam: undefined as number | undefined,
    getNextPageParam: (page) => (page.more ? page.notices.at(-1)?.id : undefined),
  })

/** The newest of one account's. */
export const noticesOf = (account: string) =>
  queryOptions({
    queryKey: ['notices', 'of', account],
    queryFn: () => take(api.GET('/api/notices', { params: { query: { account } } })),
  })

export const templates = queryOptions({
  queryKey: ['accounts', 'templates'],
  queryFn: () => take(api.GET('/api/accounts/templates')),
})

export const accountsFound = (find: string) =>
  queryOptions({
    queryKey: ['accounts', find],
    queryFn: () => take(api.GET('/api/accounts', { params: { query: { find, limit: 12 } } })),
    staleTime: 60_000,
    placeholderData: keepPreviousData,
  })

/** What is looked for in the log. */
export interface Sought {
  account?: string | undefined
  by?: string | undefined
  kind?: string | undefined
  first_day?: string | undefined
  last_day?: string | undefined
  find?: string | undefined
}

export function actsPage(sought: Sought, before?: number, limit = 60) {
  return take(api.GET('/api/log/acts', { params: { query: { ...sought, before, limit } } }))
}

/** The entries of one act, in sentences. */
export const entriesOf = (sought: Sought, act: Act) =>
  queryOptions({
    queryKey: ['log', 'entries', act.newest, act.oldest, sought],
    queryFn: () =>
      take(
        api.GET('/api/log/entries', {
          params: { query: { ...sought, by: act.actor, newest: act.newest, oldest: act.oldest } },
        }),
      ),
    staleTime: Infinity,
  })

/** How many entries each day has. */
export const logDays = (sought: Sought) =>
  queryOptions({
    queryKey: ['log', 'days', sought],
    queryFn: () => take(api.GET('/api/log/days', { params: { query: sought } })),
    placeholderData: keepPreviousData,
  })

export const requestEffect = (id: number, part: number) =>
  queryOptions({
    queryKey: ['requests', 'effect', id, part],
    queryFn: () =>
      take(api.GET('/api/requests/{request_id}/effect', { params: { path: { request_id: id }, query: { part } } })),
    retry: false,
    placeholderData: keepPreviousData,
  })

export const requestsOf = (account: string) =>
  queryOptions({
    queryKey: ['requests', 'of', account],
    queryFn: () => take(api.GET('/api/requests', { params: { query: { account } } })),
  })

export const accountDetail = (account: string) =>
  queryOptions({
    queryKey: ['accounts', 'detail', account],
    queryFn: () => take(api.GET('/api/accounts/{account}', { params: { path: { account } } })),
  })

export const holdsOf = (account: string, product?: string) =>
  queryOptions({
    queryKey: ['allocations', 'holds', account, product],
    queryFn: () => take(api.GET('/api/enforcement/holds', { params: { query: { account, product } } })),
    staleTime: 15_000,
  })

export const levelsOf = (account: string, product: string) =>
  queryOptions({
    queryKey: ['allocations', 'levels', account, product],
    queryFn: () => take(api.GET('/api/enforcement/thresholds', { params: { query: { account, product } } })),
    staleTime: 60_000,
  })

export const demoMail = queryOptions({
  queryKey: ['demo', 'mail'],
  queryFn: () => take(api.GET('/api/demo/mail')),
  refetchInterval: 5000,
  retry: false,
})

/** Pools as they stand: of an owner, of a product, or with some words; the first of them. */
export const poolsNow = (query: { owner?: string; product?: string; find?: string; limit?: number }) =>
  queryOptions({
    queryKey: ['pools', 'now', query],
    queryFn: () => take(api.GET('/api/pools', { params: { query } })),
    staleTime: 15_000,
  })

/** A pool over time, its lots as a draft has them at a revision if one is given. */
export const poolTimeline = (owner: string, product: string, draft: { id: number; revision: number } | null) =>
  queryOptions({
    queryKey: ['pools', 'timeline', owner, product, draft],
    queryFn: () =>
      take(
        api.GET('/api/pools/{owner}/{product}/timeline', {
          params: { path: { owner, product }, query: { draft: draft?.id } },
        }),
      ),
    placeholderData: (before, last) =>
      last?.queryKey[2] === owner && last.queryKey[3] === product ? before : undefined,
    staleTime: 60_000,
  })
