import { Form } from 'react-bootstrap'
import { Link } from 'react-router'
import { dayOf, monthAfter, monthName, monthWord } from '../../domain/months'

/** The months around the chosen one, as links; the present one is so far. */
export function MonthBar({
  month,
  present,
  address,
  choose,
}: {
  month: string
  present: string
  address: (month: string) => string
  choose: (month: string) => void
}) {
  const months =
    month === present
      ? [monthAfter(month, -2), monthAfter(month, -1), month]
      : [monthAfter(month, -1), month, monthAfter(month, 1)]
  return (
    <nav className="seg" aria-label="Month">
      {months
        .filter((each) => each <= present)
        .map((each) => (
          <Link key={each} to={address(each)} aria-current={each === month ? 'page' : undefined}>
            {each === month ? monthName(each) : monthWord(each)}
            {each === present && each === month && ', so far'}
          </Link>
        ))}
      <Form.Control
        type="month"
        size="sm"
        aria-label="Another month"
        value={month}
        max={present}
        style={{ width: 152 }}
        onChange={(event) => {
          if (/^\d{4}-\d\d$/.test(event.target.value) && event.target.value <= present) choose(event.target.value)
        }}
      />
    </nav>
  )
}

/** The month before the present one: the one that is looked at most. */
export function lastMonth(now: string): string {
  return monthAfter(dayOf(now).slice(0, 7), -1)
}
