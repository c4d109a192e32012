import { SectionTabs } from '../../components/SectionTabs'

/** What is charged, and at which prices. */
export function StatementTabs({ at }: { at: 'statements' | 'payments' | 'margins' | 'prices' }) {
  return (
    <SectionTabs
      label="Statements, payments, margin, prices"
      tabs={[
        { to: '/statements', name: 'Statements', current: at === 'statements' },
        { to: '/payments', name: 'Payments', current: at === 'payments' },
        { to: '/margins', name: 'Margin', current: at === 'margins' },
        { to: '/prices', name: 'Prices', current: at === 'prices' },
      ]}
    />
  )
}
