import { Link } from 'react-router'

/** The screens of one section, one beside the other; a number says how many wait there. */
export function SectionTabs({
  label,
  tabs,
}: {
  label: string
  tabs: { to: string; name: string; current: boolean; waiting?: number }[]
}) {
  return (
    <span className="seg" role="group" aria-label={label}>
      {tabs.map((tab) => (
        <Link key={tab.to} to={tab.to} aria-current={tab.current ? 'page' : undefined}>
          {tab.name}
          {Boolean(tab.waiting) && <em>{tab.waiting}</em>}
        </Link>
      ))}
    </span>
  )
}
