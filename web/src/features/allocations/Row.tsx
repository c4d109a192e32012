import { memo } from 'react'
import type { Pool } from '../../api/queries'
import type { Field } from '../../domain/cellInput'
import { roundUnits, shortUnits, unitName } from '../../domain/units'
import { gauge } from '../../components/Gauge'
import { figuresOf, type CellEffect, type Figures } from './model'

export const ROW = 35

export interface Edit {
  field: Field
  text: string
  wrong: boolean
}

interface RowProps {
  account: string
  place: number
  index: number
  top: number
  name: string
  kind: string
  status: string
  depth: number
  below: number
  open: boolean
  pools: Pool[]
  first: number
  last: number
  columnWidth: number
  /** The active column, -1 for the name, null where the row is not active. */
  active: number | null
  edit: Edit | null
  /** First and last column of the chosen range in this row; -1 where the row has none of it. */
  from: number
  to: number
  effects: Record<string, CellEffect> | undefined
  changed: string
  faults: Record<string, string> | undefined
  onEdit: (text: string) => void
}

/** One account against the pools. Only its own figures wake it. */
export const Row = memo(function Row(props: RowProps) {
  const { index, top, depth, active } = props
  return (
    <div
      role="row"
      data-row={index}
      aria-rowindex={index + 2}
      aria-level={depth + 1}
      aria-expanded={props.below ? props.open : undefined}
      className={depth <= 1 ? 'row1 arow' : 'arow'}
      style={{ transform: `translateY(${top}px)` }}
    >
      <div
        role="rowheader"
        data-col={-1}
        tabIndex={active === -1 ? 0 : -1}
        className={active === -1 ? 'aname sel' : 'aname'}
        style={{ paddingLeft: 8 + depth * 16 }}
        aria-colindex={1}
        title={props.kind === 'sub-account' ? props.name : `${props.name}, ${props.kind}`}
      >
        <span className="tw" aria-hidden="true">
          {props.below ? (props.open ? '▾' : '▸') : ''}
        </span>
        {props.name}
        {props.status !== 'active' && <span className="quiet small"> {props.status}</span>}
      </div>
      <div className="acells" style={{ marginLeft: props.first * props.columnWidth }} role="presentation">
        {props.pools.slice(props.first, props.last).map((pool, offset) => (
          <CellView
            key={pool.product}
            pool={pool}
            account={props.account}
            place={props.place}
            column={props.first + offset}
            width={props.columnWidth}
            name={props.name}
            selected={active === props.first + offset}
            edit={active === props.first + offset ? props.edit : null}
            effect={props.effects?.[pool.product]}
            changed={props.changed.includes(`|${pool.product}|`)}
            fault={props.faults?.[pool.product]}
            onEdit={props.onEdit}
            within={props.from >= 0 && props.first + offset >= props.from && props.first + offset <= props.to}
          />
        ))}
      </div>
    </div>
  )
})

interface CellProps {
  account: string
  pool: Pool
  place: number
  column: number
  width: number
  name: string
  selected: boolean
  edit: Edit | null
  effect: CellEffect | undefined
  changed: boolean
  within: boolean
  fault: string | undefined
  onEdit: (text: string) => void
}

/** One account in one pool: a key that moves the cursor wakes two of them. */
const CellView = memo(function CellView(props: CellProps) {
  const { pool, place, column, selected, effect, changed, name, within, fault } = props
  const common = {
    role: 'gridcell',
    'data-col': column,
    tabIndex: selected ? 0 : -1,
    'aria-colindex': column + 2,
    'aria-selected': within || undefined,
  } as const
  if (pool.present[place] !== 1)
    return (
      <div
        {...common}
        className={selected ? 'cell sel none' : 'cell none'}
        aria-description={`${name}, ${pool.name}: no pool`}
      >
        ·
      </div>
    )
  const figures = figuresOf(pool, place, effect)
  const cap = figures.cap === null ? '–' : roundUnits(figures.cap, pool.per_unit)
  const load = roundUnits(figures.load, pool.per_unit)
  return (
    <div
      {...common}
      className={`cell${selected ? ' sel' : ''}${within ? ' rng' : ''}${fault ? ' bad' : ''}${changed ? ' ed' : effect ? ' eff' : ''}`}
      title={fault}
      aria-invalid={fault ? true : undefined}
      aria-description={`${spoken(name, props.account, pool, figures)}${fault ? `. ${fault}` : ''}`}
    >
      {selected && props.edit ? (
        <input
          className={props.edit.wrong ? 'celledit wrong' : 'celledit'}
          autoFocus
          aria-invalid={props.edit.wrong}
          aria-label={`${props.edit.field} of ${name}, ${pool.name}, ${unitName(pool.unit, 2)}`}
          value={props.edit.text}
          placeholder={props.edit.field}
          onChange={(event) => props.onEdit(event.target.value)}
        />
      ) : (
        <span className="figs">
          {changed && figures.cap !== (pool.cap[place] ?? null) ? (
            <>
              {load}/<u>{cap}</u>
            </>
          ) : (
            `${load}/${cap}`
          )}
        </span>
      )}
      <span className={leftTone(figures)}>{leftText(figures, props.account, pool.per_unit)}</span>
      {gauge(
        {
          used: Math.min(figures.used, figures.load),
          held: figures.held,
          reserve: figures.reserve,
          limit: figures.cap,
          reachable: figures.load + Math.max(0, figures.headroom ?? figures.load * 0.15),
        },
        props.width - 16,
      )}
    </div>
  )
})

function leftTone(figures: Figures): string {
  if (figures.cap !== null && figures.load > figures.cap) return 'left ov'
  return figures.state === 'near' ? 'left nr' : 'left'
}

function leftText(figures: Figures, account: string, perUnit: number): string {
  if (figures.cap !== null && figures.load > figures.cap) {
    const mark = figures.state === 'restricted' ? '■' : figures.state === 'grace' ? '◆' : '▲'
    return `${mark} ${roundUnits(figures.load - figures.cap, perUnit)} over`
  }
  return `${figures.state === 'near' ? '△ ' : ''}${roomText(figures, account, (grains) => roundUnits(grains, perUnit))}`
}

/** The room a cell has, named for what ends it: its own cap (whatever it lets through past it), the supply, or a cap
 * above it. */
export function roomText(figures: Figures, account: string, of: (grains: number) => string): string {
  const toCap = figures.cap === null ? null : Math.max(0, figures.cap - figures.load)
  if (toCap !== null && (figures.headroom === null || figures.headroom >= toCap)) return `${of(toCap)} to cap`
  if (figures.headroom === null) return '–'
  const amount = of(Math.max(0, figures.headroom))
  if (figures.boundBy === account) return `${amount} to cap`
  return figures.boundBy === 'supply' ? `${amount} in supply` : `${amount} available`
}

function spoken(name: string, account: string, pool: Pool, figures: Figures): string {
  const of = (grains: number) => `${shortUnits(grains, pool.per_unit)} ${unitName(pool.unit, grains / pool.per_unit)}`
  const cap = figures.cap === null ? 'no cap' : `cap ${of(figures.cap)}`
  const reserve = figures.reserve ? `, reserve ${of(figures.reserve)}` : ''
  const state = figures.state === 'within' ? '' : `, ${figures.state}`
  const past = figures.cap === null ? 0 : (figures.headroom ?? 0) - Math.max(0, figures.cap - figures.load)
  const beyond = past > 0 && figures.load <= (figures.cap ?? 0) ? `, then ${of(past)} past it` : ''
  const room = `${roomText(figures, account, of)}${beyond}`
  return `${name}, ${pool.name}: ${of(figures.load)} counted, ${cap}${reserve}, ${room}${state}`
}
