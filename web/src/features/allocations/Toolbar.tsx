import { memo, useMemo } from 'react'
import { Button, Dropdown, Form } from 'react-bootstrap'
import type { ProductName } from '../../api/queries'
import { dayName } from '../../domain/months'
import { ExportMenu } from '../../components/ExportMenu'
import { chosenPools, readChoice, type PoolChoice } from './model'
import { DayField } from '../../components/DayField'

interface ToolbarProps {
  all: ProductName[]
  pools: ProductName[]
  /** The choice of pools as the address has it. */
  choice: string
  filter: string
  find: string
  /** Goes to the first of what is found. */
  enter: () => void
  attention: number
  choose: (name: string, value: string | null) => void
  setFind: (words: string) => void
  shareOut: () => void
  /** The day that is looked at; null = now. */
  on: string | null
  /** The day it is compared with; null = today. */
  against: string | null
  /** How many accounts are closed. */
  closed: number
}

const FILTERS = [
  ['all', 'All'],
  ['attention', 'Needs attention'],
  ['idle', 'Idle'],
  ['closed', 'Closed'],
] as const
const POOLS = [
  ['counted', 'Seats, devices'],
  ['storage', 'Storage'],
] as const

/** Which accounts and pools are shown. Asleep while the cursor moves. */
export const Toolbar = memo(function Toolbar({
  all,
  pools,
  choice,
  filter,
  find,
  enter,
  attention,
  choose,
  setFind,
  shareOut,
  on,
  against,
  closed,
}: ToolbarProps) {
  const shown = useMemo(() => ({ product: pools.map((pool) => pool.product), on: on ?? undefined }), [pools, on])
  return (
    <div className="bar tightbar">
      <Dropdown autoClose="outside">
        <h1>
          <Dropdown.Toggle as="button" type="button" id="as-of" className={on ? 'titlebutton changed' : 'titlebutton'}>
            {on ? `As of ${dayName(on)}` : 'Allocations'}
          </Dropdown.Toggle>
        </h1>
        <Dropdown.Menu className="px-3">
          <Form.Label htmlFor="as-of-day" className="small quiet">
            As of another day
          </Form.Label>
          <DayField id="as-of-day" means="last" stands value={on ?? ''} onDay={(day) => choose('on', day || null)} />
          {on && (
            <>
              <Form.Label htmlFor="against-day" className="small quiet mt-2">
                Compare with (empty = today)
              </Form.Label>
              <DayField
                id="against-day"
                means="last"
                stands
                value={against ?? ''}
                onDay={(day) => choose('against', day || null)}
              />
              <Button
                variant="link"
                className="p-0 mt-2"
                onClick={() => {
                  choose('against', null)
                  choose('on', null)
                }}
              >
                Back to today
              </Button>
            </>
          )}
        </Dropdown.Menu>
      </Dropdown>
      <span className="seg" role="group" aria-label="Which accounts">
        {FILTERS.filter(([key]) => key !== 'closed' || closed > 0).map(([key, label]) => (
          <button
            type="button"
            key={key}
            aria-pressed={filter === key}
            onClick={() => choose('show', key === 'all' ? null : key)}
          >
            {label}
            {key === 'attention' && attention > 0 && <em>{attention}</em>}
          </button>
        ))}
      </span>
      <span className="seg" role="group" aria-label="Which pools">
        {POOLS.map(([key, label]) => (
          <button
            type="button"
            key={key}
            aria-pressed={choice === key}
            onClick={() => choose('pools', key === 'counted' ? null : key)}
          >
            {label}
          </button>
        ))}
        <PoolChooser pools={all} choice={readChoice(choice)} choose={(value) => choose('pools', value)} />
      </span>
      <span className="grow" />
      <Form.Control
        id="find-account"
        type="search"
        placeholder="Find  /"
        aria-label="Find an account"
        style={{ width: 100 }}
        value={find}
        onChange={(event) => setFind(event.target.value)}
        onKeyDown={(event) => {
          if (event.key !== 'ArrowDown' && event.key !== 'Enter') return
          event.preventDefault()
          enter()
        }}
      />
      {!on && (
        <Button variant="outline-primary" onClick={shareOut}>
          Share out
        </Button>
      )}
      <ExportMenu path="/api/allocations/export" params={shown} />
    </div>
  )
})

function PoolChooser({
  pools,
  choice,
  choose,
}: {
  pools: ProductName[]
  choice: PoolChoice
  choose: (value: string) => void
}) {
  const shown = chosenPools(pools, choice).map((pool) => pool.product)
  return (
    <Dropdown autoClose="outside">
      <Dropdown.Toggle
        as="button"
        type="button"
        id="choose-pools"
        aria-pressed={Array.isArray(choice) || choice === 'all'}
      >
        {choice === 'all' ? 'All pools' : 'Choose…'}
      </Dropdown.Toggle>
      <Dropdown.Menu>
        <Dropdown.Item as="button" active={choice === 'all'} onClick={() => choose('all')}>
          All pools
        </Dropdown.Item>
        <Dropdown.Divider />
        {pools.map((pool) => (
          <Form.Check
            key={pool.product}
            id={`pool-${pool.product}`}
            className="mx-3"
            label={pool.name}
            checked={shown.includes(pool.product)}
            onChange={(event) =>
              choose(
                (event.target.checked ? [...shown, pool.product] : shown.filter((each) => each !== pool.product)).join(
                  ',',
                ) || ',',
              )
            }
          />
        ))}
      </Dropdown.Menu>
    </Dropdown>
  )
}
