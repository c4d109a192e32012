import { useQuery, useQueryClient } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { api, take } from '../../api/client'
import { useAction } from '../../api/useAction'
import { delegations } from '../delegations/queries'
import { Trouble } from '../../components/States'

/** Accounts that nobody runs and for which an address stands: their admins are invited when one says so. */
export function WhomToInvite() {
  const found = useQuery(delegations)
  const queries = useQueryClient()
  const [not, setNot] = useState(new Set<string>())
  const [said, setSaid] = useState('')
  const { run, busy, error } = useAction()
  const gaps = (found.data?.gaps ?? []).filter((each) => each.admin_email)
  const chosen = gaps.filter((each) => !not.has(each.account))
  if (!found.data?.may_give || (gaps.length === 0 && !said)) return null
  const invite = async () => {
    let invited = 0
    await run(async () => {
      for (const each of chosen) {
        const email = each.admin_email ?? ''
        await take(
          api.POST('/api/delegations', {
            body: {
              email,
              name: email.split('@')[0] ?? email,
              accounts: [each.account],
              role: 'admin',
              passes_on: true,
            },
          }),
        )
        invited += 1
        setSaid(`${invited} of ${chosen.length} invited`)
      }
    })
    await queries.invalidateQueries({ queryKey: delegations.queryKey })
  }
  return (
    <section aria-label="People to invite" className="mt-3" style={{ maxWidth: 720 }}>
      <h2 className="sub">People to invite</h2>
      <p className="quiet small mb-1" role="status">
        {said || 'These accounts have no admin yet. Each invited person gets a link to set a password.'}
      </p>
      {gaps.map((each) => (
        <Form.Check
          key={each.account}
          id={`invite-${each.account}`}
          label={`${each.name} · ${each.admin_email}`}
          checked={!not.has(each.account)}
          disabled={busy}
          onChange={(event) => {
            const now = new Set(not)
            if (event.target.checked) now.delete(each.account)
            else now.add(each.account)
            setNot(now)
          }}
        />
      ))}
      {error !== null && <Trouble error={error} />}
      {gaps.length > 0 && (
        <Button size="sm" className="mt-2" disabled={busy || chosen.length === 0} onClick={() => void invite()}>
          {busy ? 'Inviting…' : `Invite ${chosen.length}`}
        </Button>
      )}
    </section>
  )
}
