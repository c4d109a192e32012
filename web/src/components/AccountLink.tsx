import { Link } from 'react-router'
import { useCan } from '../api/queries'

/** An account by its name, with its page where one may see that. */
export function AccountLink({ account, children }: { account: string; children: React.ReactNode }) {
  const sees = useCan('allocations.see')
  return sees ? <Link to={`/accounts/${encodeURIComponent(account)}`}>{children}</Link> : <>{children}</>
}
