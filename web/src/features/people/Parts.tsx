import { useQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import { joinsWaiting, seatQueue } from './queries'

/** The lists about people, one beside the other. */
export function Parts({ at }: { at: 'people' | 'groups' | 'queue' | 'reclaim' | 'domains' }) {
  const waiting = useQuery(seatQueue).data?.length ?? 0
  const asking = useQuery(joinsWaiting).data?.length ?? 0
  const here = (part: string) => (part === at ? 'page' : undefined)
  return (
    <span className="seg" role="group" aria-label="People, groups, waiting">
      <Link to="/people" aria-current={here('people')}>
        People
      </Link>
      <Link to="/groups" aria-current={here('groups')}>
        Groups
      </Link>
      <Link to="/queue" aria-current={here('queue')}>
        Waiting{waiting > 0 && <em>{waiting}</em>}
      </Link>
      <Link to="/idle" aria-current={here('reclaim')}>
        Idle seats
      </Link>
      <Link to="/domains" aria-current={here('domains')}>
        Joining{asking > 0 && <em>{asking}</em>}
      </Link>
    </span>
  )
}
