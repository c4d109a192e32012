import { api, take } from '../../api/client'
import type { Today } from '../../api/queries'
import { useOutcome } from '../../components/Outcome'
import { changeOf, termsOf } from '../allocations/model'
import { useDraft } from '../drafts/context'

type Pressed = Today['pressed'][number]

/** Put caps that hold what is in use now into the draft; what is fixed elsewhere stays as it is. */
export function useRaise(): (items: Pressed[]) => Promise<void> {
  const draft = useDraft()
  const outcome = useOutcome()
  return async (items) => {
    const cells = items.map(({ account, product }) => ({ account, product }))
    const found = await take(api.POST('/api/allocations/terms', { body: { cells } }))
    const changes = found.flatMap((each, at) => {
      const item = items[at]
      return item && !each.fixed ? [changeOf(each, { ...termsOf(each.version), cap: item.load })] : []
    })
    draft.set(changes)
    const left = items.length - changes.length
    outcome(
      `${changes.length} ${changes.length === 1 ? 'cap' : 'caps'} raised in the draft${left ? `, ${left} set by the parent account` : ''}. Review and apply when ready.`,
      { label: 'Undo', run: draft.undo },
    )
  }
}
