import { useQuery } from '@tanstack/react-query'
import { useCan, wouldPass } from '../../api/queries'
import { useRested } from '../../components/useRested'

/** Which budgets so many units more would pass; nothing where none would. */
export function BudgetNote({ account, product, more }: { account: string; product: string; more: number }) {
  const rested = useRested(more, 300)
  const sees = useCan('statements.see')
  const found = useQuery(wouldPass(account, product, rested, sees)).data
  if (!found || rested !== more) return null
  return found.says.map((each) => (
    <p className="near small mb-1" key={each}>
      △ {each}
    </p>
  ))
}
