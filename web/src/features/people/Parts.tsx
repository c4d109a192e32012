import { useQuery } from '@tanstack/react-query'
import { Link } from 'react-router'
import { me } from '../../api/queries'
import { joinsWaiting, seatQueue } from './queries'

/** The lists about people, one beside the other. */
export function Parts({ at }: { at: 'people' | 'groups' | 'queue' | 'reclaim' | 'domains' }) {
  const running = useQuery(me).data?.running
  const whole = running !== undefined && running.people_of === null
  const waiting = useQuery({ ...seatQueue, enabled: whole }).data?.length ?? 0
  const asking = useQuery({ ...joinsWaiting, enabled: whole }).data?.length ?? 0
  const here = (part: string) => (part === at ? 'page' : undefined)
  if (!whole)
    return <span className="quiet small">{running?.people_of && `of ${running.people_of.split('/')[1]}`}</span>
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
        Self sign-up{asking > 0 && <em>{asking}</em>}
      </Link>
    </span>
  )
}
