import { api, type Schemas } from '../../api/client'

export type BulkAction = Schemas['ActBody']['act']
/** People by name or by the filter of a list. */
export type ChosenPeople = Partial<Schemas['AskedBody']>

/** Do one thing to many people, at the address that is for its kind. */
export function sendBulkAction(body: Schemas['ActBody']) {
  const { act, ...rest } = body
  switch (act) {
    case 'assign':
    case 'release':
    case 'swap':
    case 'reserve':
    case 'cancel reservation':
      return api.POST('/api/people/seats', { body: { ...rest, act } })
    case 'invite':
    case 'revoke invitation':
      return api.POST('/api/people/invitations', { body: { ...rest, act } })
    default:
      return api.POST('/api/people/act', { body: { ...rest, act } })
  }
}

/** What an action with people changes. */
export const CHANGES = ['people', 'groups', 'allocations', 'accounts', 'today', 'log', 'pools', 'storage']
