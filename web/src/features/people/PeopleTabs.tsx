import { useQuery } from '@tanstack/react-query'
import { me } from '../../api/queries'
import { SectionTabs } from '../../components/SectionTabs'
import { joinsWaiting, seatQueue } from './queries'

/** The lists about people, one beside the other. */
export function PeopleTabs({ at }: { at: 'people' | 'groups' | 'queue' | 'idle' | 'domains' }) {
  const running = useQuery(me).data?.running
  const whole = running !== undefined && running.people_of === null
  const queue = useQuery({ ...seatQueue(0), enabled: whole }).data?.total
  const joins = useQuery({ ...joinsWaiting, enabled: whole }).data?.length
  if (!whole)
    return <span className="quiet small">{running?.people_of && `of ${running.people_of.split('/')[1]}`}</span>
  return (
    <SectionTabs
      label="People, groups, waiting"
      tabs={[
        { to: '/people', name: 'People', current: at === 'people' },
        { to: '/groups', name: 'Groups', current: at === 'groups' },
        { to: '/queue', name: 'Waiting', current: at === 'queue', waiting: queue },
        { to: '/idle', name: 'Idle seats', current: at === 'idle' },
        { to: '/domains', name: 'Self sign-up', current: at === 'domains', waiting: joins },
      ]}
    />
  )
}
