import { Dropdown } from 'react-bootstrap'
import { Link } from 'react-router'
import { dayOf, monthAfter, monthName, monthWord } from '../../domain/months'

const LISTED = 36

/** The chosen month, to be changed for any of the last three years, between links to those beside it. */
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
  const [before, after] = [monthAfter(month, -1), monthAfter(month, 1)]
  const said = (each: string) => `${monthName(each)}${each === present ? ', so far' : ''}`
  const months = Array.from({ length: LISTED }, (_, back) => monthAfter(present, -back))
  return (
    <nav className="seg" aria-label="Month">
      <Link to={address(before)}>{monthWord(before)}</Link>
      <Dropdown>
        <Dropdown.Toggle as="button" type="button" className="monthnow" aria-label={`${said(month)}, another month`}>
          {said(month)}
        </Dropdown.Toggle>
        <Dropdown.Menu className="months">
          {months.map((each) => (
            <Dropdown.Item key={each} active={each === month} onClick={() => choose(each)}>
              {said(each)}
            </Dropdown.Item>
          ))}
        </Dropdown.Menu>
      </Dropdown>
      {after <= present && <Link to={address(after)}>{monthWord(after)}</Link>}
    </nav>
  )
}

/** The month before the present one: the one that is looked at most. */
export function lastMonth(now: string): string {
  return monthAfter(dayOf(now).slice(0, 7), -1)
}
