import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useDeferredValue, useId, useState } from 'react'
import { Form } from 'react-bootstrap'
import { api, take } from '../api/client'
import { accountChoices, accountsNamed, type AccountChoice } from '../api/queries'

interface Props {
  /** The chosen account's code; without it the form keeps what is chosen under `name`. */
  value?: string
  defaultValue?: string
  name?: string
  onChange?: (account: string) => void
  /** What choosing none is called; without it one has to be chosen. */
  any?: string
  /** Which accounts can be chosen. */
  only?: ((account: Pick<AccountChoice, 'account' | 'kind' | 'status'>) => boolean) | undefined
  disabled?: boolean
  required?: boolean
  autoFocus?: boolean
}

/** One account of the branch: from a list where they are few, else found by a part of its name or code. */
export function AccountSelect({ value, defaultValue, name, onChange, any, only = () => true, ...rest }: Props) {
  const choices = useQuery(accountChoices).data
  if (choices && choices.accounts.length < choices.total)
    return (
      <Found
        chosen={value ?? defaultValue ?? ''}
        name={name}
        onChange={onChange}
        any={any}
        only={only}
        top={choices.accounts[0]}
        {...rest}
      />
    )
  return (
    <Form.Select
      name={name}
      {...(value === undefined ? { defaultValue, key: choices ? 'there' : 'coming' } : { value })}
      onChange={(event) => onChange?.(event.target.value)}
      {...rest}
    >
      {any !== undefined && <option value="">{any}</option>}
      {choices?.accounts.filter(only).map((each) => (
        <option key={each.account} value={each.account}>
          {'\u00a0'.repeat(2 * each.depth)}
          {each.name}
        </option>
      ))}
    </Form.Select>
  )
}

function Found({
  chosen,
  name,
  onChange,
  any,
  only,
  top,
  ...rest
}: {
  chosen: string
  name: string | undefined
  onChange: ((account: string) => void) | undefined
  any: string | undefined
  only: NonNullable<Props['only']>
  top: AccountChoice | undefined
  disabled?: boolean
  required?: boolean
  autoFocus?: boolean
}) {
  const list = useId()
  const [account, setAccount] = useState(chosen)
  const [text, setText] = useState<string | null>(null)
  const named = useQuery(accountsNamed(account ? [account] : [])).data?.[0]
  const find = useDeferredValue(text ?? '')
  const found = useQuery({
    queryKey: ['accounts', 'find', find],
    queryFn: () => take(api.GET('/api/accounts', { params: { query: { find, limit: 20 } } })),
    enabled: text !== null,
    staleTime: 60_000,
    placeholderData: keepPreviousData,
  }).data
  const said = (each: { account: string; name: string }) => `${each.name} (${each.account})`
  const options = [...(found ?? []), ...(top && !found ? [top] : [])].filter(only)
  const choose = (typed: string) => {
    setText(typed)
    const one = options.find((each) => said(each) === typed || each.account === typed)
    const code = one?.account ?? (typed.trim() === '' && any !== undefined ? '' : null)
    if (code === null) return
    setAccount(code)
    setText(null)
    onChange?.(code)
  }
  return (
    <>
      <Form.Control
        list={list}
        value={text ?? (account ? (named ? said(named) : account) : '')}
        placeholder={any ?? 'Find an account'}
        autoComplete="off"
        onChange={(event) => choose(event.target.value)}
        onFocus={(event) => event.target.select()}
        onBlur={() => setText(null)}
        {...rest}
      />
      <datalist id={list}>
        {options.map((each) => (
          <option key={each.account} value={said(each)} />
        ))}
      </datalist>
      {name && <input type="hidden" name={name} value={account} />}
    </>
  )
}
