import { useQuery } from '@tanstack/react-query'
import { useDeferredValue, useState } from 'react'
import { Form } from 'react-bootstrap'
import { api, take } from '../../api/client'
import { whole } from '../../domain/units'
import { groupNames } from './queries'

interface Props {
  /** Usernames, and codes of groups. */
  members: string[]
  /** What they are called, as far as is known. */
  named: Record<string, string>
  /** Whose people they are. */
  account: string
  disabled: boolean
  onChange: (members: string[]) => void
}

const SHOWN = 60

/** The members a group has by hand: found by name and taken out one by one, or edited as a list. */
export function MembersField({ members, named, account, disabled, onChange }: Props) {
  const [words, setWords] = useState('')
  const [added, setAdded] = useState<Record<string, string>>({})
  const find = useDeferredValue(words.trim())
  const people = useQuery({
    queryKey: ['people', 'members like', account, find],
    enabled: find.length > 1,
    staleTime: 30_000,
    queryFn: () =>
      take(api.GET('/api/people', { params: { query: { find: find.replaceAll('.', ' '), account, limit: 12 } } })),
  })
  const groups = useQuery(groupNames)
  const found = [
    ...(people.data?.rows ?? []).map((each) => ({
      member: each.username,
      name: each.name,
      says: `${each.name}, ${each.account_name}`,
    })),
    ...(groups.data ?? [])
      .filter((each) => find.length > 1 && each.name.toLowerCase().includes(find.toLowerCase()))
      .slice(0, 12)
      .map((each) => ({ member: each.code, name: each.name, says: `${each.name}, group of ${each.account_name}` })),
  ].filter((each) => !members.includes(each.member))
  const takeIn = (text: string) => {
    setWords(text)
    const hit = found.find((each) => each.member === text)
    if (!hit) return
    setAdded({ ...added, [hit.member]: hit.name })
    onChange([...members, hit.member])
    setWords('')
  }
  const nameOf = (member: string) => added[member] ?? named[member] ?? member
  return (
    <div role="group" aria-label="Members by hand" className="mt-3">
      <Form.Group controlId="group-members">
        <Form.Label>
          Members by hand {members.length > 0 && <span className="quiet">{whole(members.length)}</span>}
        </Form.Label>
        <Form.Control
          value={words}
          list="group-members-found"
          autoComplete="off"
          disabled={disabled}
          placeholder="Add a person or a group"
          onChange={(event) => takeIn(event.target.value)}
          onKeyDown={(event) => {
            if (event.key !== 'Enter') return
            // What is typed adds the one it means; it does not save the group.
            event.preventDefault()
            const only = found.length === 1 ? found[0] : undefined
            if (only) takeIn(only.member)
          }}
        />
        <datalist id="group-members-found">
          {found.map((each) => (
            <option key={each.says} value={each.member}>
              {each.says}
            </option>
          ))}
        </datalist>
      </Form.Group>
      {members.length > 0 && (
        <div className="chips flat">
          {members.slice(0, SHOWN).map((each) => (
            <button
              type="button"
              className="chip"
              key={each}
              disabled={disabled}
              title={each}
              aria-label={`Take out ${nameOf(each)}`}
              onClick={() => onChange(members.filter((other) => other !== each))}
            >
              {nameOf(each)} {!disabled && '×'}
            </button>
          ))}
          {members.length > SHOWN && <span className="quiet small">and {whole(members.length - SHOWN)} more</span>}
        </div>
      )}
      {!disabled && (
        <details>
          <summary>Edit as a list</summary>
          <Form.Control
            as="textarea"
            rows={4}
            aria-label="Usernames and codes of groups, one per line"
            placeholder="usernames, or codes of other groups, one per line"
            defaultValue={members.join('\n')}
            key={members.join('\n')}
            spellCheck={false}
            onBlur={(event) =>
              onChange(
                event.target.value
                  .split(/[\n,;]+/)
                  .map((each) => each.trim())
                  .filter(Boolean),
              )
            }
          />
        </details>
      )}
    </div>
  )
}
