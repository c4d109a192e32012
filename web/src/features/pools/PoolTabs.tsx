import { useCan } from '../../api/queries'
import { SectionTabs } from '../../components/SectionTabs'

/** What was bought, where the bytes of it sit, and who says so. */
export function PoolTabs({ at }: { at: 'pools' | 'storage' | 'systems' }) {
  const [pools, storage, systems] = [useCan('pools.see'), useCan('allocations.see'), useCan('devices.see')]
  return (
    <SectionTabs
      label="Pools, storage, systems"
      tabs={[
        ...(pools ? [{ to: '/pools', name: 'Pools', current: at === 'pools' }] : []),
        ...(storage ? [{ to: '/storage', name: 'Storage', current: at === 'storage' }] : []),
        ...(systems ? [{ to: '/storage-systems', name: 'Systems', current: at === 'systems' }] : []),
      ]}
    />
  )
}
