import { useQuery } from '@tanstack/react-query'
import { TableMenu } from '../../components/ExportMenu'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { Link, useSearchParams } from 'react-router'
import { useActs } from '../../commands/registry'
import { AccountSelect } from '../../components/AccountSelect'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { me } from '../../api/queries'
import { money } from '../../domain/money'
import { instantName } from '../../domain/months'
import { Empty, Trouble, Wait } from '../../components/States'
import { useNames } from '../drafts/names'
import { PeopleTabs } from './PeopleTabs'
import { Savings } from './Savings'
import { settingsOf } from '../accounts/Settings'
import { groupNames, policies as policiesQuery, reclaimRuns, seatProducts } from './queries'

type Policy = Schemas['PolicyBody']
type Wanted = Schemas['PolicyWanted']
type RunBody = Schemas['IdleRun']

const CRITERIA: Record<Wanted['criterion'], string> = {
  unseen: 'not seen for',
  'never seen': 'never seen in',
  'not joined': 'invited, not joined for',
}
const ACTS: Record<Wanted['act'], string> = {
  release: 'release the seats',
  suspend: 'suspend and release the seats',
  report: 'only report them',
}

/** What is idle, who is notified, and what is released? */
export default function ReclaimScreen() {
  const found = useQuery(policiesQuery)
  const who = useQuery(me).data
  const usual = useQuery({ ...settingsOf(who?.running.account ?? ''), enabled: who !== undefined }).data
  const [params, setParams] = useSearchParams()
  const [edited, setEdited] = useState(false)
  if (found.isError) return <Trouble page="Idle seats" error={found.error} again={() => void found.refetch()} />
  if (!found.data) return <Wait what="the policies" />
  const key = params.get('policy')
  const chosen = key === 'new' ? null : (found.data.find((each) => String(each.id) === key) ?? found.data[0] ?? null)
  const choose = (policy: string) => {
    setEdited(false)
    setParams({ policy }, { replace: true })
  }
  return (
    <>
      <div className="bar tightbar">
        <h1>Idle seats</h1>
        <PeopleTabs at="idle" />
        <span className="grow" />
        <TableMenu name="idle-seats" of="Preview of a run now" />
        <Button onClick={() => choose('new')}>New policy</Button>
      </div>
      <div className="pools groups">
        <nav className="poollist" aria-label="Policies">
          {found.data.map((each) => (
            <button type="button" key={each.id} aria-current={each === chosen} onClick={() => choose(String(each.id))}>
              <b>{each.name}</b>
              <span className="t">
                <span className="quiet">{each.account_name}</span>
                <b>{each.daily ? 'daily' : 'by hand'}</b>
              </span>
            </button>
          ))}
          {found.data.length === 0 && (
            <Empty title="No policy yet">A policy says who is idle, how they are notified, and what is released.</Empty>
          )}
        </nav>
        <div className="poolside groupside" role="region" aria-label={chosen?.name ?? 'New policy'} tabIndex={0}>
          {(chosen ?? (usual && (key === 'new' || found.data.length === 0))) && (
            <Editor
              key={chosen?.id ?? 'new'}
              policy={chosen}
              account={who?.running.account ?? ''}
              notice={usual?.find((each) => each.name === 'notice')?.in_force ?? 0}
              chosen={(id) => choose(String(id))}
              edited={setEdited}
            />
          )}
          {chosen && <Look key={`look ${chosen.id}`} policy={chosen} edited={edited} />}
          <Runs />
        </div>
      </div>
    </>
  )
}

/** What reclaiming seats changes. */
const CHANGES = ['reclaim', 'people', 'allocations', 'accounts', 'today', 'log', 'pools']

function Editor({
  policy,
  account,
  notice,
  chosen,
  edited,
}: {
  policy: Policy | null
  account: string
  /** The days of notice usual here. */
  notice: number
  chosen: (id: number) => void
  /** Whether what stands here differs from what is kept. */
  edited: (differs: boolean) => void
}) {
  const groups = useQuery(groupNames).data ?? []
  const products = useQuery(seatProducts).data ?? []
  const [kept, setKept] = useState<Wanted>({
    account: policy?.account ?? account,
    name: policy?.name ?? '',
    criterion: policy?.criterion ?? 'unseen',
    days: policy?.days ?? 60,
    products: policy?.products ?? [],
    exempt: policy?.exempt ?? [],
    notice_days: policy?.notice_days ?? notice,
    act: policy?.act ?? 'release',
    daily: policy?.daily ?? false,
  })
  const [wanted, setWanted] = useState(kept)
  const [everyGroup, setEveryGroup] = useState(false)
  const top = useQuery(me).data?.running.account
  const near = groups.filter(
    (each) =>
      everyGroup ||
      each.account === wanted.account ||
      each.account === top ||
      wanted.exempt.includes(`${each.account}/${each.code}`),
  )
  const { run, said, reset } = useAction(...CHANGES)
  const set = (values: Partial<Wanted>) => {
    const next = { ...wanted, ...values }
    setWanted(next)
    edited(JSON.stringify(next) !== JSON.stringify(kept))
    reset()
  }
  const number = (text: string) => Number(text.replace(/\D/g, '').slice(0, 4))
  const flip = (list: string[], one: string) =>
    list.includes(one) ? list.filter((each) => each !== one) : [...list, one]
  const keep = () =>
    run(async () => {
      const made = await take(
        policy
          ? api.PUT('/api/reclaim/{policy_id}', { params: { path: { policy_id: policy.id } }, body: wanted })
          : api.POST('/api/reclaim', { body: wanted }),
      )
      setKept(wanted)
      edited(false)
      chosen(made.id)
      return 'Saved.'
    })
  return (
    <Form
      onSubmit={(event) => {
        event.preventDefault()
        void keep()
      }}
    >
      <div className="lotform">
        <Form.Group controlId="policy-name">
          <Form.Label>Name</Form.Label>
          <Form.Control
            value={wanted.name}
            maxLength={200}
            autoFocus={!policy}
            onChange={(event) => set({ name: event.target.value })}
          />
        </Form.Group>
        <Form.Group controlId="policy-account">
          <Form.Label>For the people of</Form.Label>
          <AccountSelect value={wanted.account} disabled={policy !== null} onChange={(account) => set({ account })} />
        </Form.Group>
        <Form.Group controlId="policy-criterion">
          <Form.Label>Who are</Form.Label>
          <Form.Select
            value={wanted.criterion}
            onChange={(event) => set({ criterion: event.target.value as Wanted['criterion'] })}
          >
            {Object.entries(CRITERIA).map(([value, says]) => (
              <option key={value} value={value}>
                {says}
              </option>
            ))}
          </Form.Select>
        </Form.Group>
        <Form.Group controlId="policy-days">
          <Form.Label>Days</Form.Label>
          <Form.Control
            value={wanted.days}
            inputMode="numeric"
            onChange={(event) => set({ days: number(event.target.value) })}
          />
        </Form.Group>
        <Form.Group controlId="policy-act">
          <Form.Label>Then</Form.Label>
          <Form.Select value={wanted.act} onChange={(event) => set({ act: event.target.value as Wanted['act'] })}>
            {Object.entries(ACTS).map(([value, says]) => (
              <option key={value} value={value}>
                {says}
              </option>
            ))}
          </Form.Select>
        </Form.Group>
        <Form.Group controlId="policy-notice">
          <Form.Label>
            Days of notice by mail <span className="quiet">(0 = none)</span>
          </Form.Label>
          <Form.Control
            value={wanted.notice_days}
            inputMode="numeric"
            onChange={(event) => set({ notice_days: number(event.target.value) })}
          />
        </Form.Group>
      </div>
      <fieldset className="mt-2">
        <legend className="small quiet mb-0">Of these products (none chosen = of all)</legend>
        <div className="ticks">
          {products.map((each) => (
            <Form.Check
              key={each.code}
              id={`policy-${each.code}`}
              label={each.name}
              checked={wanted.products.includes(each.code)}
              onChange={() => set({ products: flip(wanted.products, each.code) })}
            />
          ))}
        </div>
      </fieldset>
      <fieldset className="mt-2">
        <legend className="small quiet mb-0">Exclude members of these groups and protected people</legend>
        <div className="ticks">
          {near.map((each) => {
            const name = `${each.account}/${each.code}`
            return (
              <Form.Check
                key={name}
                id={`exempt-${name}`}
                label={`${each.name} (${each.account_name})`}
                checked={wanted.exempt.includes(name)}
                onChange={() => set({ exempt: flip(wanted.exempt, name) })}
              />
            )
          })}
        </div>
        {near.length < groups.length && (
          <button type="button" className="btn btn-link btn-sm p-0" onClick={() => setEveryGroup(true)}>
            Show the groups of all accounts ({groups.length})
          </button>
        )}
      </fieldset>
      <Form.Check
        className="mt-2"
        id="policy-daily"
        label="Run daily"
        checked={wanted.daily}
        onChange={(event) => set({ daily: event.target.checked })}
      />
      <div className="d-flex gap-2 align-items-center mt-2">
        <Button type="submit" disabled={!wanted.name.trim()}>
          {policy ? 'Save' : 'Create policy'}
        </Button>
        {said && (
          <span className={said.bad ? 'over' : 'good'} role={said.bad ? 'alert' : 'status'}>
            {said.text}
          </span>
        )}
      </div>
    </Form>
  )
}

/** What the policy as it is kept would do; it is run only while nothing else stands on the screen. */
function Look({ policy, edited }: { policy: Policy; edited: boolean }) {
  const path = { params: { path: { policy_id: policy.id } } }
  const looked = useQuery({
    queryKey: ['reclaim', 'preview', policy],
    queryFn: () => take(api.POST('/api/reclaim/{policy_id}/preview', path)),
    retry: false,
    gcTime: 0,
  })
  const { run: act, busy, trouble } = useAction(...CHANGES)
  const run = async () => {
    await act(async () => {
      await take(api.POST('/api/reclaim/{policy_id}/run', path))
    })
  }
  return (
    <section aria-label="Preview of a run now" className="mt-4">
      <h2 className="sub">Preview of a run now</h2>
      {looked.isError ? (
        <p className="over" role="alert">
          {looked.error.message}
        </p>
      ) : !looked.data ? (
        <Wait what="who is idle" />
      ) : (
        <>
          {edited && <p className="quiet">This is the saved policy. Save your changes to preview them.</p>}
          <Sums found={looked.data} act={policy.act} />
          <Deeds found={looked.data} />
          {trouble && (
            <p className="over" role="alert">
              {trouble}
            </p>
          )}
          {!edited && looked.data.deeds.length > 0 && <RunAct busy={busy} run={() => void run()} />}
          {!edited && looked.data.deeds.length > 0 && (
            <Button disabled={busy} onClick={() => void run()}>
              Run it now
            </Button>
          )}
        </>
      )}
    </section>
  )
}

function saved(found: { saved: Schemas['SavedBody'][] }): string {
  return found.saved.map((each) => `${money(each.amount)} ${each.currency}`).join(', ')
}

function Sums({ found, act }: { found: RunBody; act: Wanted['act'] }) {
  if (found.deeds.length === 0)
    return (
      <p className="mb-1" role="status">
        No one: {found.left.length} idle {found.left.length === 1 ? 'person is' : 'people are'} kept.
      </p>
    )
  return (
    <p className="mb-1" role="status">
      {found.notified > 0 && (
        <>
          <b>{found.notified}</b> {found.notified === 1 ? 'person is' : 'people are'} notified first.{' '}
        </>
      )}
      {found.done > 0 && (
        <>
          <b>{found.done}</b>{' '}
          {act === 'release'
            ? found.done === 1
              ? 'person loses seats'
              : 'people lose their seats'
            : `${found.done === 1 ? 'person is' : 'people are'} ${act === 'report' ? 'reported' : 'suspended'}`}
          .{' '}
        </>
      )}
      {found.seats > 0 && (
        <>
          <b>{found.seats}</b> {found.seats === 1 ? 'seat is' : 'seats are'} released
          {found.saved.length > 0 && (
            <>
              , which cost <b>{saved(found)}</b> a month
            </>
          )}
          .{' '}
        </>
      )}
      <span className="quiet">{found.left.length} kept.</span>
    </p>
  )
}

function Deeds({ found }: { found: { deeds: Schemas['DeedBody'][]; left?: Schemas['DeedBody'][] } }) {
  const names = useNames()
  const rows = [...found.deeds, ...(found.left ?? []).filter((each) => each.products.length > 0)]
  if (rows.length === 0) return null
  return (
    <div
      style={{ maxHeight: 260, overflow: 'auto' }}
      className="mb-2"
      role="region"
      aria-label="Who, and why"
      tabIndex={0}
    >
      <table className="ledger tight">
        <thead>
          <tr>
            <th>Person</th>
            <th>What</th>
            <th>Products</th>
            <th>Why</th>
          </tr>
        </thead>
        <tbody>
          {rows.slice(0, 300).map((each) => (
            <tr key={each.username}>
              <td>
                <Link to={`/people/${encodeURIComponent(each.username)}`}>{each.name}</Link>
              </td>
              <td className={each.what === 'left' ? 'quiet' : undefined}>
                {each.what === 'left' ? 'kept' : each.what === 'told' ? 'notified' : each.what}
              </td>
              <td>{each.products.map(names.product).join(', ')}</td>
              <td className="quiet">{each.why}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}

function Runs() {
  const now = useQuery(me).data?.now ?? ''
  const found = useQuery(reclaimRuns)
  const [open, setOpen] = useState<number | null>(null)
  const { run, said } = useAction(...CHANGES)
  const [partly, setPartly] = useState(false)
  const undo = (id: number) =>
    run(async () => {
      const { back, missing } = await take(
        api.POST('/api/reclaim/runs/{run_id}/undo', { params: { path: { run_id: id } } }),
      )
      const [first] = missing
      setPartly(missing.length > 0)
      return `${back.length} ${back.length === 1 ? 'person has' : 'people have'} everything again${first ? `; ${missing.length} not, ${first[0]}: ${(first[1] ?? '').replace(/\.$/, '')}` : ''}.`
    })
  if (!found.data?.length) return null
  return (
    <>
      <Savings runs={found.data} now={now} />
      <section aria-label="Runs" className="mt-4">
        <h2 className="sub">Runs</h2>
        {said && (
          <p className={said.bad || partly ? 'near' : 'good'} role={said.bad || partly ? 'alert' : 'status'}>
            {said.text}
          </p>
        )}
        <table className="ledger tight">
          <thead>
            <tr>
              <th>When</th>
              <th>Policy</th>
              <th>By</th>
              <th className="fig">Notified</th>
              <th className="fig">Done</th>
              <th className="fig">Seats</th>
              <th className="fig">A month</th>
              <th>
                <span className="visually-hidden">Do</span>
              </th>
            </tr>
          </thead>
          <tbody>
            {found.data.map((each) => (
              <tr key={each.id}>
                <td className="text-nowrap">{instantName(each.at)}</td>
                <td>
                  {each.policy} <span className="quiet small">{each.account_name}</span>
                </td>
                <td>{each.by}</td>
                <td className="fig">{each.notified}</td>
                <td className="fig">{each.done}</td>
                <td className="fig">{each.seats}</td>
                <td className="fig">{saved(each) || '–'}</td>
                <td className="text-nowrap fig">
                  <button
                    type="button"
                    className="btn btn-link btn-sm p-0 me-2"
                    aria-expanded={open === each.id}
                    aria-label={`Who, run of ${instantName(each.at)}`}
                    onClick={() => setOpen(open === each.id ? null : each.id)}
                  >
                    Who
                  </button>
                  {each.undone_at ? (
                    <span className="quiet small">taken back by {each.undone_by}</span>
                  ) : (
                    each.seats > 0 && (
                      <button type="button" className="btn btn-link btn-sm p-0" onClick={() => void undo(each.id)}>
                        Return
                      </button>
                    )
                  )}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
        {found.data
          .filter((each) => each.id === open)
          .map((each) => (
            <Deeds key={each.id} found={each} />
          ))}
      </section>
    </>
  )
}

/** Running the policy, by name with Ctrl K. */
function RunAct({ busy, run }: { busy: boolean; run: () => void }) {
  useActs('Idle seats', busy ? [] : [{ id: 'run-policy', name: 'Run it now', run }])
  return null
}
