import { useCan } from '../../api/queries'
import { SectionTabs } from '../../components/SectionTabs'

/** What was bought, and where the bytes of it sit. */
export function PoolTabs({ at }: { at: 'pools' | 'storage' }) {
  const [pools, storage] = [useCan('pools.see'), useCan('allocations.see')]
  if (!pools || !storage) return null
  return (
    <SectionTabs
      label="Pools, storage"
      tabs={[
        { to: '/pools', name: 'Pools', current: at === 'pools' },
        { to: '/storage', name: 'Storage', current: at === 'storage' },
      ]}
    />
  )
}
