import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Dropdown } from 'react-bootstrap'
import { useNarrow } from '../../components/useNarrow'
import { me } from '../../api/queries'
import { useActs } from '../../commands/registry'
import { BulkActionDialog } from './BulkActionDialog'
import { GroupMembersDialog } from './GroupMembersDialog'
import type { BulkAction, ChosenPeople } from './sendBulkAction'

const ACTIONS: {
  action: BulkAction | 'group'
  name: string
  needs: ('product' | 'to_product' | 'to_account' | 'keep_seats' | 'group')[]
  done: string
}[] = [
  { action: 'assign', name: 'Assign…', needs: ['product'], done: 'given a seat' },
  { action: 'release', name: 'Release…', needs: ['product'], done: 'released' },
  { action: 'reserve', name: 'Reserve a seat…', needs: ['product'], done: 'kept a seat' },
  { action: 'cancel reservation', name: 'Cancel reservation…', needs: ['product'], done: 'no longer kept a seat' },
  { action: 'swap', name: 'Swap…', needs: ['product', 'to_product'], done: 'swapped' },
  { action: 'group', name: 'Group…', needs: ['group'], done: 'changed' },
  { action: 'move', name: 'Move…', needs: ['to_account'], done: 'moved' },
  { action: 'suspend', name: 'Suspend…', needs: ['keep_seats'], done: 'suspended' },
  { action: 'resume', name: 'Resume…', needs: [], done: 'resumed' },
  { action: 'protect', name: 'Protect…', needs: [], done: 'protected' },
  { action: 'unprotect', name: 'Unprotect…', needs: [], done: 'no longer protected' },
  { action: 'invite', name: 'Invite again…', needs: [], done: 'invited again' },
  { action: 'revoke invitation', name: 'Revoke invitation…', needs: [], done: 'no longer invited' },
  { action: 'remove', name: 'Remove…', needs: [], done: 'removed' },
]
/** What each needs a role for. */
function permission(action: BulkAction | 'group'): string {
  if (['assign', 'release', 'reserve', 'cancel reservation', 'swap'].includes(action)) return 'seats.give'
  if (action === 'group') return 'groups.change'
  return action === 'invite' || action === 'revoke invitation' ? 'people.invite' : 'people.change'
}

/** What is seldom done to many stands behind More. */
const SELDOM = ['cancel reservation', 'resume', 'protect', 'unprotect', 'invite', 'revoke invitation']
/** So many stand beside More on a phone. */
const AT_HAND = 2
const RESTORE = { action: 'restore' as const, name: 'Restore…', needs: [], done: 'restored' }

/** Actions with everybody chosen. */
export function BulkActions({
  who,
  count,
  removed,
  names,
  done,
  only,
}: {
  who: ChosenPeople
  count: number
  removed: boolean
  /** Their names, where they are known. */
  names?: string[]
  done: () => void
  only?: string[]
}) {
  const whom =
    names && names.length === count && count <= 2
      ? names.join(' and ')
      : `${count} ${count === 1 ? 'person' : 'people'}`
  const narrow = useNarrow()
  const [doing, setDoing] = useState<(typeof ACTIONS)[number] | null>(null)
  const can = new Set(useQuery(me).data?.running.permissions)
  const open = ACTIONS.filter((each) => can.has(permission(each.action)))
  const offered = (removed ? [RESTORE] : open).filter(
    (each) => can.has(permission(each.action)) && (!only || removed || only.includes(each.action)),
  )
  const often = offered.filter((each) => only !== undefined || !SELDOM.includes(each.action))
  const shown = often.slice(0, narrow && offered.length > AT_HAND ? AT_HAND : undefined)
  const folded = offered.filter((each) => !shown.includes(each))
  useActs(
    only ? 'This person' : 'Chosen people',
    offered.map((each) => ({ id: `act ${each.action}`, name: each.name, run: () => setDoing(each) })),
  )
  return (
    <section className="draftbar actbar" aria-label={only ? 'Actions' : 'Chosen people'}>
      {!only && (
        <span>
          <b>{count} chosen</b>{' '}
          <button type="button" className="btn btn-link btn-sm p-0" aria-label="Clear selection" onClick={done}>
            ×
          </button>
        </span>
      )}
      {shown.map((each) => (
        <Button key={each.action} size="sm" variant="outline-primary" onClick={() => setDoing(each)}>
          {each.name}
        </Button>
      ))}
      {folded.length > 0 && (
        <Dropdown drop="up">
          <Dropdown.Toggle size="sm" variant="outline-primary" id="more-acts">
            More
          </Dropdown.Toggle>
          <Dropdown.Menu>
            {folded.map((each) => (
              <Dropdown.Item as="button" key={each.action} onClick={() => setDoing(each)}>
                {each.name}
              </Dropdown.Item>
            ))}
          </Dropdown.Menu>
        </Dropdown>
      )}
      {doing &&
        (doing.action === 'group' ? (
          <GroupMembersDialog who={who} whom={whom} close={() => setDoing(null)} done={done} />
        ) : (
          <BulkActionDialog
            action={doing.action}
            needs={doing.needs}
            word={doing.done}
            title={doing.name}
            who={who}
            count={count}
            whom={whom}
            close={() => setDoing(null)}
            done={done}
          />
        ))}
    </section>
  )
}
