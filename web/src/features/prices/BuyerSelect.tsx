import { useQuery } from '@tanstack/react-query'
import { Form } from 'react-bootstrap'
import { AccountSelect } from '../../components/AccountSelect'
import { buyersOf } from './queries'

interface Props {
  seller: string
  /** Only buyers of a kind. */
  kind?: string
  name: string
  choose: string
  defaultValue?: string
  onChange?: (buyer: string) => void
  required?: boolean
  autoFocus?: boolean
  isInvalid?: boolean
}

/** One of a seller's buyers: from a list where they are few, else found by a part of its name or code. */
export function BuyerSelect({ seller, kind, name, choose, defaultValue = '', onChange, isInvalid, ...rest }: Props) {
  const found = useQuery(buyersOf(seller, kind === undefined ? {} : { kind })).data
  if (found && found.rows.length < found.total)
    return (
      <AccountSelect
        name={name}
        defaultValue={defaultValue}
        any={choose}
        only={(each) => kind === undefined || each.kind === kind}
        onChange={(buyer) => onChange?.(buyer)}
        {...rest}
      />
    )
  return (
    <Form.Select
      key={found ? 'there' : 'coming'}
      name={name}
      defaultValue={defaultValue}
      isInvalid={isInvalid ?? false}
      onChange={(event) => onChange?.(event.target.value)}
      {...rest}
    >
      <option value="">{choose}</option>
      {found?.rows.map((each) => (
        <option key={each.buyer} value={each.buyer}>
          {each.name}
        </option>
      ))}
    </Form.Select>
  )
}
