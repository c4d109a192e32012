import { useQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import { me } from '../../api/queries'

/** The log, and in a demo the mail it would have sent. */
export function LogTabs({ at }: { at: 'log' | 'mail' }) {
  const demo = useQuery(me).data?.demo
  if (!demo) return null
  return (
    <span className="seg" role="group" aria-label="Log, mail">
      <Link to="/log" aria-current={at === 'log' ? 'page' : undefined}>
        Log
      </Link>
      <Link to="/mail" aria-current={at === 'mail' ? 'page' : undefined}>
        Mail
      </Link>
    </span>
  )
}
