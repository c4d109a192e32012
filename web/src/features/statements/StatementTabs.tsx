import { SectionTabs } from '../../components/SectionTabs'

/** What is charged, and at which prices. */
export function StatementTabs({ at }: { at: 'statements' | 'prices' }) {
  return (
    <SectionTabs
      label="Statements, prices"
      tabs={[
        { to: '/statements', name: 'Statements', current: at === 'statements' },
        { to: '/prices', name: 'Prices', current: at === 'prices' },
      ]}
    />
  )
}
