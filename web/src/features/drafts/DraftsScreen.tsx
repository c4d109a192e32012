import { useQuery } from '@tanstack/react-query'
import { Button } from 'react-bootstrap'
import { useNavigate, useSearchParams } from 'react-router'
import { api, take } from '../../api/client'
import { useAction } from '../../api/useAction'
import { draftDetail, drafts as draftsQuery, type DraftSummary } from '../../api/queries'
import { useActs } from '../../commands/registry'
import { bySlot } from '../../domain/draft'
import { dayName, instantName } from '../../domain/months'
import { WhyForm } from '../../components/AskInstead'
import { TableMenu } from '../../components/ExportMenu'
import { Empty, Trouble, Wait } from '../../components/States'
import { ChangesTable } from './ChangesTable'
import { useDraft } from './context'
import { EffectPanel } from './EffectPanel'
import { useNames } from './names'
import { beginOf, Purchases } from './Purchases'

/** What is prepared, what waits for its day, and what was applied? */
export default function DraftsScreen() {
  const found = useQuery(draftsQuery)
  const [params, setParams] = useSearchParams()
  const chosen = Number(params.get('draft')) || found.data?.[0]?.id
  if (found.isPending) return <Wait what="the drafts" />
  if (found.isError) return <Trouble page="Drafts" error={found.error} again={() => void found.refetch()} />
  return (
    <div className="workspace">
      <div className="gridside">
        <div className="bar">
          <h1>Drafts</h1>
          <span className="grow" />
          {found.data.length > 0 && <TableMenu name="drafts" />}
        </div>
        {found.data.length === 0 ? (
          <Empty title="No drafts yet">
            Change a reserve or a cap in Allocations, or a lot in Pools: the change is in a draft until you apply it.
          </Empty>
        ) : (
          <div className="scroll">
            <table className="ledger">
              <thead>
                <tr>
                  <th>Draft</th>
                  <th>State</th>
                  <th className="fig">Changes</th>
                  <th>By</th>
                  <th>Last changed</th>
                </tr>
              </thead>
              <tbody onKeyDown={walkButtons}>
                {found.data.map((each) => (
                  <tr key={each.id} className={each.id === chosen ? 'chosen' : undefined}>
                    <td>
                      <button
                        type="button"
                        className="btn btn-link p-0 text-start"
                        aria-pressed={each.id === chosen}
                        onClick={() => setParams({ draft: String(each.id) }, { replace: true })}
                      >
                        {each.name}
                      </button>
                    </td>
                    <td>{each.state === 'applied' ? 'applied' : <State draft={each} />}</td>
                    <td className="fig">{each.count}</td>
                    <td>{each.mine ? 'you' : each.owner}</td>
                    <td className="text-nowrap">{instantName(each.changed_at)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        )}
      </div>
      <aside className="drawer wide" aria-label="Selected draft">
        {chosen && <Detail id={chosen} key={chosen} />}
      </aside>
    </div>
  )
}

/** Up and down go from one draft to the next, and show it. */
function walkButtons(event: React.KeyboardEvent<HTMLElement>) {
  const by = { ArrowDown: 1, ArrowUp: -1 }[event.key]
  if (!by) return
  const buttons = [...event.currentTarget.querySelectorAll('button')]
  const next = buttons[buttons.indexOf(event.target as HTMLButtonElement) + by]
  if (!next) return
  event.preventDefault()
  next.focus()
  next.click()
}

function State({ draft }: { draft: DraftSummary }) {
  if (draft.state === 'scheduled') return <>on {draft.apply_on ? dayName(draft.apply_on) : ''}</>
  if (draft.state === 'held') return <b className="over">held back</b>
  if (draft.state === 'asked') return draft.mine ? <>asked for</> : <b className="near">asks to be applied</b>
  if (draft.state === 'applied') return <>applied {draft.applied_at ? instantName(draft.applied_at) : ''}</>
  return <b>open</b>
}

function Detail({ id }: { id: number }) {
  const found = useQuery(draftDetail(id))
  const names = useNames()
  const draft = useDraft()
  const go = useNavigate()
  const { run: act, error: trouble } = useAction()
  const body = found.data
  const params = { params: { path: { draft_id: id } } }
  const run = async (work: () => Promise<unknown>, then?: () => void) => {
    await act(async () => {
      await work()
      draft.open(null)
      then?.()
    })
  }
  const toGrid = () => {
    void go('/allocations')
  }
  const reverse = () => run(() => take(api.POST('/api/drafts/{draft_id}/reverse', params)), toGrid)
  useActs(
    'Selected draft',
    body?.state === 'applied' ? [{ id: 'reverse-draft', name: 'Reverse', run: () => void reverse() }] : [],
  )
  if (found.isPending) return <Wait what="the draft" />
  if (found.isError) return <Trouble error={found.error} />
  if (!body) return null
  return (
    <>
      <h2>{body.name}</h2>
      <p className="quiet small">
        <State draft={body} /> · by {body.mine ? 'you' : body.owner}
        {body.shared_with.length > 0 && ` · shared with ${body.shared_with.join(', ')}`}
      </p>
      {body.reason && (
        <p className={body.state === 'held' ? 'over' : undefined} role={body.state === 'held' ? 'alert' : undefined}>
          {body.state === 'held' ? 'Held back: ' : 'Why: '}
          {body.reason}
        </p>
      )}
      <div className="d-flex gap-2 my-2 flex-wrap">
        {body.state === 'open' && (
          <Button
            size="sm"
            onClick={() => {
              draft.open(body.mine ? null : id)
              toGrid()
            }}
          >
            Continue editing
          </Button>
        )}
        {body.state === 'asked' && !body.mine && (
          <Button
            size="sm"
            disabled={!body.effect?.may_apply}
            onClick={() =>
              void run(() =>
                take(
                  api.POST('/api/drafts/{draft_id}/apply', { ...params, body: { revision: body.revision, note: '' } }),
                ),
              )
            }
          >
            Apply
          </Button>
        )}
        {(['scheduled', 'held'].includes(body.state) || (body.state === 'asked' && body.mine)) && (
          <Button
            size="sm"
            onClick={() => void run(() => take(api.POST('/api/drafts/{draft_id}/open', params)), toGrid)}
          >
            Reopen
          </Button>
        )}
        {body.state === 'applied' && (
          <Button
            size="sm"
            onClick={() => void run(() => take(api.POST('/api/drafts/{draft_id}/reverse', params)), toGrid)}
          >
            Reverse
          </Button>
        )}
        {body.state !== 'applied' && body.mine && (
          <Button
            size="sm"
            variant="outline-primary"
            onClick={() => void run(() => take(api.POST('/api/drafts/{draft_id}/discard', params)))}
          >
            Discard
          </Button>
        )}
      </div>
      {body.state === 'asked' && !body.mine && (
        <WhyForm
          label="Why not"
          send="Decline"
          ask={(reason) => run(() => take(api.POST('/api/drafts/{draft_id}/decline', { ...params, body: { reason } })))}
        />
      )}
      {trouble !== null && <Trouble error={trouble} />}
      {body.effect?.above && <p className="over">{body.effect.above}</p>}
      <ChangesTable
        changes={bySlot(body.changes)}
        effect={body.effect ?? undefined}
        names={names}
        people={body.people}
      />
      <Purchases changes={bySlot(body.changes)} names={names} />
      {body.effect && <EffectPanel effect={body.effect} names={names} begins={beginOf(bySlot(body.changes))} />}
    </>
  )
}
