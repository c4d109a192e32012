import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form, Modal } from 'react-bootstrap'
import { api, take } from '../../api/client'
import { useAction } from '../../api/useAction'
import { useOutcome } from '../../components/Outcome'
import { plain } from './peopleFilter'
import { groupNames } from './queries'
import { CHANGES, type ChosenPeople } from './sendBulkAction'

/** Put everybody chosen into a group by hand, or take them out. */
export function GroupMembersDialog({
  who,
  whom,
  close,
  done,
}: {
  who: ChosenPeople
  whom: string
  close: () => void
  done: () => void
}) {
  const groups = (useQuery(groupNames).data ?? []).filter((each) => each.source === 'here')
  const [name, setName] = useState('')
  const outcome = useOutcome()
  const { run, busy, trouble } = useAction(...CHANGES)
  const change = async (way: 'add' | 'take') => {
    await run(async () => {
      const usernames = who.usernames ?? (await everybody(who))
      const [account = '', code = ''] = name.split('/')
      await take(
        api.POST('/api/groups/{account}/{code}/members', {
          params: { path: { account, code } },
          body: way === 'add' ? { add: usernames, take: [] } : { add: [], take: usernames },
        }),
      )
      outcome(
        `${usernames.length} ${usernames.length === 1 ? 'person' : 'people'} ${way === 'add' ? 'added to' : 'removed from'} ${groups.find((each) => `${each.account}/${each.code}` === name)?.name ?? code}.`,
      )
      close()
      done()
    })
  }
  return (
    <Modal show onHide={close} animation={false} aria-labelledby="group-title">
      <Modal.Header closeButton>
        <Modal.Title as="h2" id="group-title">
          Group: {whom}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        <Form.Group controlId="act-group">
          <Form.Label>Group</Form.Label>
          <Form.Select autoFocus value={name} onChange={(event) => setName(event.target.value)}>
            <option value="">choose…</option>
            {groups.map((each) => (
              <option key={`${each.account}/${each.code}`} value={`${each.account}/${each.code}`}>
                {each.name} ({each.account_name})
              </option>
            ))}
          </Form.Select>
        </Form.Group>
        <p className="quiet small mt-2 mb-0">
          By hand. Members by the group’s rule stay as long as the rule includes them.
        </p>
        {trouble && (
          <p className="over mt-2 mb-0" role="alert">
            {trouble}
          </p>
        )}
      </Modal.Body>
      <Modal.Footer>
        <Button variant="outline-primary" onClick={close}>
          Cancel
        </Button>
        <Button variant="outline-primary" disabled={!name || busy} onClick={() => void change('take')}>
          Remove
        </Button>
        <Button disabled={!name || busy} onClick={() => void change('add')}>
          Add
        </Button>
      </Modal.Footer>
    </Modal>
  )
}

async function everybody(who: ChosenPeople): Promise<string[]> {
  const found: string[] = []
  const asked = plain({ ...who, usernames: null })
  for (;;) {
    const page = await take(
      api.GET('/api/people', { params: { query: { ...asked, offset: found.length, limit: 500 } } }),
    )
    found.push(...page.rows.map((each) => each.username))
    if (page.rows.length < 500) return found
  }
}
