import { api, type Schemas } from '../../api/client'

/** Do one thing to many people, at the address that is for its kind. */
export function sent(body: Schemas['ActBody']) {
  const { act, ...rest } = body
  switch (act) {
    case 'assign':
    case 'release':
    case 'swap':
    case 'set aside':
    case 'let go':
      return api.POST('/api/people/seats', { body: { ...rest, act } })
    case 'invite':
    case 'withdraw':
      return api.POST('/api/people/invitations', { body: { ...rest, act } })
    default:
      return api.POST('/api/people/act', { body: { ...rest, act } })
  }
}
