import { SectionTabs } from '../../components/SectionTabs'

/** What is in use besides seats, one list beside the other. */
export function DeviceTabs({ at }: { at: 'devices' | 'sessions' | 'numbers' | 'keys' }) {
  return (
    <SectionTabs
      label="Devices, sessions, numbers"
      tabs={[
        { to: '/devices', name: 'Devices', current: at === 'devices' },
        { to: '/sessions', name: 'Sessions', current: at === 'sessions' },
        { to: '/numbers', name: 'Numbers', current: at === 'numbers' },
        { to: '/keys', name: 'Keys', current: at === 'keys' },
      ]}
    />
  )
}
