import { useQuery } from '@tanstack/react-query'
import { me } from '../../api/queries'
import { SectionTabs } from '../../components/SectionTabs'

/** The log, and in a demo the mail it would have sent. */
export function LogTabs({ at }: { at: 'log' | 'mail' }) {
  if (!useQuery(me).data?.demo) return null
  return (
    <SectionTabs
      label="Log, mail"
      tabs={[
        { to: '/log', name: 'Log', current: at === 'log' },
        { to: '/mail', name: 'Mail', current: at === 'mail' },
      ]}
    />
  )
}
