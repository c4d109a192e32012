import { useQuery } from '@tanstack/react-query'
import { memo, useMemo, useState } from 'react'
import { Form } from 'react-bootstrap'
import { Link } from 'react-router'
import { api, take } from '../../api/client'
import { useAction } from '../../api/useAction'
import { First } from '../../components/First'
import {
  cell as cellQuery,
  historyOf,
  holdsOf,
  levelsOf,
  productsInSight,
  type Cell,
  type Effect,
} from '../../api/queries'
import { allocationSlot, sameTerms, type AtCap, type Change, type Changes, type Terms } from '../../domain/draft'
import { dayAfter, dayName, dayOf } from '../../domain/months'
import { parseUnits, units, unitName } from '../../domain/units'
import { holders } from '../../components/holders'
import { Ladder } from '../../components/Ladder'
import { StateMark, Trouble, Wait } from '../../components/States'
import { changeOf, effectsOf, termsOf } from './model'
import { DayField } from '../../components/DayField'

interface DrawerProps {
  account: string
  product: string
  changes: Changes
  effect: Effect | undefined
  set: (changes: Change[]) => void
  look: (account: string, product: string) => void
  /** Another day than today is looked at: nothing can be changed. */
  on: string | null
}

/** Selected cell: its terms to change, why not more, and the ways out. */
export const Drawer = memo(function Drawer(props: DrawerProps) {
  const found = useQuery(cellQuery(props.account, props.product, props.on))
  if (found.isPending) return <Wait what="the figures" />
  if (found.isError) return <Trouble error={found.error} again={() => void found.refetch()} />
  return <CellDrawer {...props} cell={found.data} key={allocationSlot(found.data.account, found.data.product)} />
})

function CellDrawer({ cell, changes, effect, set, look, on }: DrawerProps & { cell: Cell }) {
  const change = on ? undefined : changes[allocationSlot(cell.account, cell.product)]
  const terms: Terms = (change?.kind === 'allocation' ? change.terms : null) ?? termsOf(cell.version)
  const looked = !on && Object.keys(changes).length ? effect : undefined
  const ladder = looked?.ladder ?? cell.ladder
  const mostReserve = looked?.most_reserve ?? cell.most_reserve
  const drafted = useMemo(
    () => (on ? undefined : effectsOf(effect)[cell.account]?.[cell.product]),
    [effect, cell.account, cell.product, on],
  )
  const load = drafted?.load ?? cell.load
  const state = drafted?.state ?? cell.state
  // What a cap that follows seats comes to is the server's to say.
  const cap = drafted ? drafted.cap : terms.per === null ? terms.cap : cell.cap
  const put = (other: Partial<Terms>) => set([changeOf(cell, { ...terms, ...other })])
  return (
    <>
      <div className="small">
        <Link to={`/products/${encodeURIComponent(cell.product)}`}>{cell.product_name}</Link>
      </div>
      <h2>{cell.name}</h2>
      {cell.parent_name && <div className="quiet small">{cell.parent_name}</div>}
      {cell.may_change && !on ? (
        <TermsForm
          cell={cell}
          terms={terms}
          mostReserve={mostReserve}
          put={put}
          until={
            change?.kind === 'allocation' && change.until ? change.until.last_day : (cell.version?.last_day ?? null)
          }
          putUntil={(last_day) =>
            set([
              {
                ...changeOf(cell, terms),
                until: { last_day },
                was_until: { last_day: cell.version?.last_day ?? null },
              },
            ])
          }
        />
      ) : (
        <p className="say quiet">
          {termsSentence(cell, terms)}{' '}
          {on ? `As of ${dayName(on)}.` : `What ${cell.name} gets is its parent’s to give.`}
        </p>
      )}
      <p className="say">
        <StateMark state={state} /> <b>{overSentence(cell, cap, load, state)}</b> {ladder.sentence}
      </p>
      <Ladder limits={ladder.limits} unit={cell.unit} onRung={(account) => look(account, cell.product)} />
      {!on && <Holds cell={cell} over={cap === null ? 0 : load - cap} />}
      {!on && <Levels account={cell.account} product={cell.product} key={`${cell.account} ${cell.product}`} />}
      {!on && (
        <WaysOut
          cell={cell}
          terms={terms}
          cap={cap}
          load={load}
          bound={ladder.bound_by}
          ask={ladder.ask}
          limits={ladder.limits}
          put={put}
          look={look}
        />
      )}
      <History cell={cell} />
    </>
  )
}

function termsSentence(cell: Cell, terms: Terms): string {
  const each = terms.per === null ? '' : ` and ${units(terms.each ?? 0, cell.per_unit)} a seat`
  const cap =
    terms.cap === null && terms.per === null ? 'no cap' : `a cap of ${units(terms.cap ?? 0, cell.per_unit)}${each}`
  return `A reserve of ${units(terms.reserve, cell.per_unit)} and ${cap}.`
}

function overSentence(cell: Cell, cap: number | null, load: number, state: string): string {
  const of = (grains: number) => `${units(grains, cell.per_unit)} ${unitName(cell.unit, grains / cell.per_unit)}`
  if (cap !== null && load > cap) {
    const over = `${cell.name} is ${of(load - cap)} over its cap of ${units(cap, cell.per_unit)}`
    if (state === 'grace')
      return `${over}, in grace until ${cell.grace_until ? dayName(cell.grace_until) : 'its days are over'}.`
    if (state === 'restricted')
      return `${over}; its grace ended ${cell.grace_until ? dayName(cell.grace_until) : ''}. Nothing new, and the excess is on hold.`
    return `${over}.`
  }
  return ''
}

function TermsForm({
  cell,
  terms,
  mostReserve,
  put,
  until,
  putUntil,
}: {
  cell: Cell
  terms: Terms
  mostReserve: number
  put: (other: Partial<Terms>) => void
  until: string | null
  putUntil: (last_day: string | null) => void
}) {
  const was = termsOf(cell.version)
  const owner = cell.ladder.limits.findIndex((each) => each.account === 'supply') === 1
  const measure = useQuery(productsInSight).data?.find((each) => each.product === cell.product)?.measure
  return (
    <div className="terms">
      <Quantity
        label="Reserve"
        value={terms.reserve}
        changed={terms.reserve !== was.reserve}
        perUnit={cell.per_unit}
        disabled={owner}
        put={(value) => put({ reserve: value ?? 0 })}
      />
      <Quantity
        label="Cap"
        value={terms.cap}
        changed={terms.cap !== was.cap}
        perUnit={cell.per_unit}
        empty={terms.per === null ? 'none' : '0'}
        put={(value) => put({ cap: value })}
      />
      {measure === 'storage' && <Seats cell={cell} terms={terms} was={was} put={put} />}
      <Form.Group controlId="at_cap">
        <Form.Label>At the cap</Form.Label>
        <Form.Select
          value={terms.at_cap}
          className={terms.at_cap === was.at_cap ? undefined : 'changed'}
          onChange={(event) =>
            put({
              at_cap: event.target.value as AtCap,
              grace_days: event.target.value === 'grace' ? (terms.grace_days ?? 14) : terms.grace_days,
            })
          }
        >
          <option value="block">block</option>
          <option value="grace">grace</option>
          <option value="overage">overage, charged</option>
        </Form.Select>
      </Form.Group>
      {terms.at_cap !== 'block' && (
        <Quantity
          label="Burst"
          value={terms.burst}
          changed={terms.burst !== was.burst}
          perUnit={cell.per_unit}
          empty="any"
          put={(value) => put({ burst: value })}
        />
      )}
      {terms.at_cap === 'grace' && (
        <Quantity
          label="Grace days"
          value={terms.grace_days}
          changed={terms.grace_days !== was.grace_days}
          perUnit={1}
          put={(value) => put({ grace_days: value ?? 0 })}
        />
      )}
      <Form.Group controlId="last-day" style={{ gridColumn: '1 / -1' }}>
        <Form.Label>Last day</Form.Label>
        <DayField
          value={until ?? ''}
          changed={until !== (cell.version?.last_day ?? null)}
          onDay={(day) => putUntil(day || null)}
        />
      </Form.Group>
      {until !== null && until !== cell.version?.last_day && (
        <div className="quiet small" style={{ gridColumn: '1 / -1' }}>
          From {dayName(dayAfter(until))}{' '}
          {cell.version && !sameTerms(terms, was) ? `again: ${termsSentence(cell, was)}` : 'no allocation.'}
        </div>
      )}
      <div className="quiet small" style={{ gridColumn: '1 / -1' }}>
        {unitName(cell.unit, 2)}
        {!owner && `; the reserve can go up to ${units(mostReserve, cell.per_unit)}`}
      </div>
    </div>
  )
}

/** How much more the cap is for every seat of a counted product. */
function Seats({
  cell,
  terms,
  was,
  put,
}: {
  cell: Cell
  terms: Terms
  was: Terms
  put: (other: Partial<Terms>) => void
}) {
  const counted = (useQuery(productsInSight).data ?? []).filter((each) => each.measure !== 'storage')
  const known = counted.some((each) => each.product === terms.per)
  return (
    <>
      <Form.Group controlId="per">
        <Form.Label>More per seat of</Form.Label>
        <Form.Select
          value={terms.per ?? ''}
          className={terms.per === was.per ? undefined : 'changed'}
          onChange={(event) =>
            put(
              event.target.value
                ? { per: event.target.value, each: terms.each ?? cell.per_unit }
                : { per: null, each: null },
            )
          }
        >
          <option value="">nothing</option>
          {terms.per !== null && !known && <option value={terms.per}>{terms.per}</option>}
          {counted.map((each) => (
            <option key={each.product} value={each.product}>
              {each.name}
            </option>
          ))}
        </Form.Select>
      </Form.Group>
      {terms.per !== null && (
        <Quantity
          label="Each seat"
          value={terms.each}
          changed={terms.each !== was.each}
          perUnit={cell.per_unit}
          put={(value) => put({ each: value ?? 0 })}
        />
      )}
      {terms.per !== null && cell.seats !== null && cell.cap !== null && terms.per === was.per && (
        <div className="quiet small" style={{ gridColumn: '1 / -1' }}>
          {cell.seats} in use here: the cap is {units(cell.cap, cell.per_unit)} now
        </div>
      )}
    </>
  )
}

function Quantity({
  label,
  value,
  changed,
  perUnit,
  empty,
  disabled,
  put,
}: {
  label: string
  value: number | null
  changed: boolean
  perUnit: number
  empty?: string
  disabled?: boolean
  put: (value: number | null) => void
}) {
  const shown = value === null ? '' : units(value, perUnit)
  const [typed, setTyped] = useState<string | null>(null)
  const text = typed ?? shown
  const parsed = text.trim() === '' ? (empty ? null : undefined) : parseUnits(text, perUnit)
  const wrong = typed !== null && (parsed === undefined || (parsed === null && text.trim() !== ''))
  const id = label.toLowerCase().replace(' ', '-')
  return (
    <Form.Group controlId={id}>
      <Form.Label>{label}</Form.Label>
      <Form.Control
        value={text}
        placeholder={empty}
        disabled={disabled}
        isInvalid={wrong}
        className={changed ? 'changed' : undefined}
        inputMode="decimal"
        autoComplete="off"
        aria-describedby={wrong ? `${id}-wrong` : undefined}
        onChange={(event) => {
          const now = event.target.value
          setTyped(now)
          const value = now.trim() === '' ? (empty ? null : undefined) : parseUnits(now, perUnit)
          if (value !== undefined && (value !== null || now.trim() === '')) put(value)
        }}
        onBlur={() => {
          if (!wrong) setTyped(null)
        }}
        onKeyDown={(event) => {
          if (event.key === 'Escape') setTyped(null)
        }}
      />
      {wrong && (
        <span className="over small" id={`${id}-wrong`}>
          {perUnit === 1 ? 'whole number' : 'up to 3 decimals'}
        </span>
      )}
    </Form.Group>
  )
}

/** So many the server lists. */
const MOST_HOLDS = 500

/** Units of this account and below that are on hold here, in the order in which they were put there. */
/** What of the branch is on hold, for its own cap or another; ``over``: by how much it is over its own. */
function Holds({ cell, over }: { cell: Cell; over: number }) {
  const { account, product } = cell
  const found = useQuery(holdsOf(account, product))
  if (!found.data?.length) return null
  const mine = found.data.filter((each) => each.for_account === account).length
  return (
    <section>
      <h3>On hold</h3>
      <ul className="plain small">
        <First
          items
          of={found.data}
          show={(each) => (
            <li key={each.subject}>
              ■ {each.name ? <Link to={`/people/${encodeURIComponent(each.subject)}`}>{each.name}</Link> : each.subject}{' '}
              <span className="quiet">
                since {dayName(dayOf(each.since))}
                {each.for_account !== each.account && each.for_account !== account && ', limited by a parent account'}
              </span>
            </li>
          )}
        />
        {mine > 0 && mine < MOST_HOLDS && over > mine && (
          <li className="quiet">
            {over - mine} more over the cap {over - mine === 1 ? 'is' : 'are'} reserved, not in use.
          </li>
        )}
        {found.data.length === MOST_HOLDS && <li className="quiet">Only the first {MOST_HOLDS} are listed.</li>}
      </ul>
    </section>
  )
}

/** Every version of the allocation, with who made it. */
function History({ cell }: { cell: Cell }) {
  const [open, setOpen] = useState(false)
  const found = useQuery({ ...historyOf(cell.account, cell.product), enabled: open })
  return (
    <details className="history" onToggle={(event) => setOpen(event.currentTarget.open)}>
      <summary>History of this allocation</summary>
      <ul className="plain small">
        {(found.data ?? []).map((each) => (
          <li key={each.version.id}>
            <b>
              {dayName(each.version.first_day)}
              {each.version.last_day ? ` to ${dayName(each.version.last_day)}` : ' on'}
            </b>
            : {termsSentence(cell, termsOf(each.version))}{' '}
            <span className="quiet">
              {each.by ? `${each.by}${each.through ? `, ${each.through}` : ''}` : 'from an intake'}
            </span>
          </li>
        ))}
        {found.data?.length === 0 && <li className="quiet">No allocation yet.</li>}
      </ul>
    </details>
  )
}

/** At which percents of the cap people are told. */
function Levels({ account, product }: { account: string; product: string }) {
  const found = useQuery(levelsOf(account, product))
  const [typed, setTyped] = useState<string | null>(null)
  const { run, trouble } = useAction('allocations')
  if (!found.data) return null
  const text = typed ?? found.data.levels.join(', ')
  const save = async () => {
    if (typed === null) return
    const levels = typed
      .split(/[,;\s%]+/)
      .filter(Boolean)
      .map(Number)
    await run(async () => {
      if (levels.some((each) => !Number.isInteger(each))) throw new Error('Whole percentages, separated by commas.')
      await take(
        api.PUT('/api/enforcement/thresholds', {
          params: { query: { account, product } },
          body: { levels: typed.trim() ? levels : null },
        }),
      )
      setTyped(null)
    })
  }
  return (
    <Form.Group controlId="levels" className="levels">
      <Form.Label>Alert at (% of cap)</Form.Label>
      <Form.Control
        value={text}
        inputMode="numeric"
        isInvalid={trouble !== ''}
        onChange={(event) => setTyped(event.target.value)}
        onBlur={() => void save()}
        onKeyDown={(event) => {
          if (event.key === 'Enter') void save()
        }}
      />
      {trouble && <span className="over small">{trouble}</span>}
    </Form.Group>
  )
}

function WaysOut({
  cell,
  terms,
  cap,
  load,
  bound,
  ask,
  limits,
  put,
  look,
}: {
  cell: Cell
  terms: Terms
  cap: number | null
  load: number
  bound: string | null
  ask: string | null
  limits: { account: string; name: string; leaves: string | null }[]
  put: (other: Partial<Terms>) => void
  look: (account: string, product: string) => void
}) {
  const over = cap !== null && load > cap
  const binding = limits.find((each) => each.account === bound)
  const ways: React.ReactNode[] = []
  if (cell.may_change && over) {
    ways.push(
      <button type="button" className="wayout" key="raise" onClick={() => put({ cap: load, per: null, each: null })}>
        Raise to {units(load, cell.per_unit)}
        <span>in the draft; what is counted now fits</span>
      </button>,
    )
    if (terms.at_cap !== 'overage') {
      ways.push(
        <button type="button" className="wayout" key="overage" onClick={() => put({ at_cap: 'overage', burst: null })}>
          Allow overage, charged<span>in the draft; the excess at the overage price</span>
        </button>,
      )
    }
  }
  if (binding && bound !== cell.account && bound !== 'supply') {
    ways.push(
      <button type="button" className="wayout" key="look" onClick={() => look(binding.account, cell.product)}>
        Look at {binding.name}
        <span>its limit is the one that stops more here</span>
      </button>,
    )
  }
  if (bound === 'supply') {
    ways.push(
      <Link className="wayout" key="supply" to={`/pools?product=${encodeURIComponent(cell.product)}`}>
        Open the pool<span>the supply is the limit here</span>
      </Link>,
    )
  }
  const measure = useQuery(productsInSight).data?.find((each) => each.product === cell.product)?.measure
  if (measure && (over || load > 0))
    ways.push(
      <Link className="wayout" key="holders" to={holders({ account: cell.account, product: cell.product, measure })}>
        {over ? 'Choose who to release' : 'Holders'}
        <span>{measure === 'seat' ? 'least active first' : 'what is in use here'}</span>
      </Link>,
    )
  if (!cell.may_change && ask)
    ways.push(
      <Link className="wayout" key="ask" to={`/accounts/${encodeURIComponent(cell.account)}`}>
        Ask {ask} for more<span>on the account page</span>
      </Link>,
    )
  if (ways.length === 0) return null
  return (
    <section>
      <h3>Ways out</h3>
      {ways}
    </section>
  )
}
