import { queryOptions } from '@tanstack/react-query'
import { api, take, type Schemas } from '../../api/client'
import { usePages } from '../../components/usePages'

export type Buyer = Schemas['Buyer']
export const BUYER_SORTS = [
  'name',
  'seller',
  'number',
  'amount',
  'change',
  'cost',
  'margin',
  'percent',
  'share',
] as const
export type BuyerSort = (typeof BUYER_SORTS)[number]
export type Receivable = Schemas['ReceivableRow']
export type Life = Schemas['LifeBody']
export type Asked = { state: StateAsked | undefined; find: string }
export type StateAsked = 'unsent' | 'open' | 'overdue' | 'paid' | 'credit' | 'asked'
/** What is asked anew after an act about a closed statement. */
export const CHANGES = ['statements', 'receivables', 'log', 'today'] as const

/** The buyers of a month as far as they are on screen; asked for once the month is known to be ready. */
export function useBuyers(month: string, find: string, sort: BuyerSort | undefined, down: boolean, isReady: boolean) {
  return usePages<Buyer>(
    ['statements', month, 'list', find, sort, down],
    (offset, limit) =>
      take(
        api.GET('/api/statements', { params: { query: { month, find, ...(sort && { sort }), down, offset, limit } } }),
      ),
    undefined,
    undefined,
    isReady,
  )
}

/** A seller's closed statements, as far as they are on screen. */
export function useReceivables(seller: string, { state, find }: Asked) {
  return usePages<Receivable>(['receivables', 'list', seller, state, find], (offset, limit) =>
    take(
      api.GET('/api/receivables/{seller}', {
        params: { path: { seller }, query: { ...(state && { state }), find, offset, limit } },
      }),
    ),
  )
}

export const sums = (seller: string) =>
  queryOptions({
    queryKey: ['receivables', 'sums', seller],
    queryFn: () => take(api.GET('/api/receivables/{seller}/sums', { params: { path: { seller } } })),
    enabled: seller !== '',
  })

/** What became of a buyer's closed statements of a month. */
export const lives = (buyer: string, month: string) =>
  queryOptions({
    queryKey: ['receivables', 'lives', buyer, month],
    queryFn: () => take(api.GET('/api/statement-lives/{buyer}/{month}', { params: { path: { buyer, month } } })),
  })

/** What sending or reminding came to, as a sentence. */
export function sentWords(sent: Schemas['SentBody'], what: 'statement' | 'reminder'): string {
  const nobody = sent.without_contact.length
    ? ` Nobody to send to: ${sent.without_contact.slice(0, 3).join(', ')}${sent.without_contact.length > 3 ? ` and ${sent.without_contact.length - 3} more` : ''}.`
    : ''
  if (sent.mails === 0) return `Nothing to send.${nobody}`
  const many = sent.statements === 1 ? `1 ${what}` : `${sent.statements} ${what}s`
  return `${many} on the way, ${sent.mails} ${sent.mails === 1 ? 'mail' : 'mails'}.${nobody}`
}
