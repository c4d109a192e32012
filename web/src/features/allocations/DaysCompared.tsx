import { Modal } from 'react-bootstrap'
import type { Grid } from '../../api/queries'
import { dayName } from '../../domain/months'
import { shortUnits, unitName } from '../../domain/units'
import { VirtualTable, type Column } from '../../parts/VirtualTable'
import { FromTo } from '../drafts/ChangesTable'
import type { CellEffect } from './model'

interface Difference {
  key: string
  account: string
  pool: string
  unit: string
  figures: [string, string][]
}

/** Every cell that differs between two days: reserve, cap and what is counted, from the earlier day's to the later one's. */
export function DaysCompared({
  day,
  other,
  differing,
  close,
}: {
  day: Grid
  other: Grid
  differing: Record<string, Record<string, CellEffect>>
  close: () => void
}) {
  const [from, to] = day.day < other.day ? [day, other] : [other, day]
  const rows = rowsOf(from, to, differing)
  const figure = (at: number) =>
    function FigureCell(row: Difference) {
      const [before = '', after = ''] = row.figures[at] ?? []
      return before === after ? <span className="quiet">{after}</span> : <FromTo from={before} to={after} />
    }
  const columns: Column<Difference>[] = [
    { key: 'account', title: 'Account', width: 'minmax(160px, 1.4fr)', cell: (row) => row.account },
    {
      key: 'pool',
      title: 'Pool',
      width: 'minmax(150px, 1.2fr)',
      cell: (row) => (
        <>
          {row.pool} <span className="quiet small">{row.unit}</span>
        </>
      ),
    },
    { key: 'reserve', title: 'Reserve', width: '130px', fig: true, cell: figure(0) },
    { key: 'cap', title: 'Cap', width: '130px', fig: true, cell: figure(1) },
    { key: 'load', title: 'Counted', width: '150px', fig: true, cell: figure(2) },
  ]
  return (
    <Modal show onHide={close} animation={false} size="xl" aria-labelledby="compared-title">
      <Modal.Header closeButton>
        <Modal.Title id="compared-title">
          From {dayName(from.day)} to {dayName(to.day)}: {rows.length}{' '}
          {rows.length === 1 ? 'cell differs' : 'cells differ'}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body style={{ height: '60vh', display: 'flex', flexDirection: 'column' }}>
        <VirtualTable
          rows={rows}
          columns={columns}
          rowKey={(row) => row.key}
          label="What differs between the two days"
        />
      </Modal.Body>
    </Modal>
  )
}

function rowsOf(from: Grid, to: Grid, differing: Record<string, Record<string, CellEffect>>): Difference[] {
  const placeIn = (grid: Grid) => new Map(grid.accounts.code.map((code, place) => [code, place]))
  const [before, after] = [placeIn(from), placeIn(to)]
  return Object.entries(differing).flatMap(([code, cells]) =>
    Object.keys(cells).map((product): Difference => {
      const side = (grid: Grid, places: Map<string, number>) => {
        const pool = grid.pools.find((each) => each.product === product)
        const place = places.get(code) ?? -1
        const of = (values: (number | null)[] | undefined) => {
          if (!pool || place < 0 || pool.present[place] !== 1) return '–'
          const value = values?.[place] ?? null
          return value === null ? 'none' : shortUnits(value, pool.per_unit)
        }
        return { pool, name: grid.accounts.name[place], figures: [of(pool?.reserve), of(pool?.cap), of(pool?.load)] }
      }
      const [one, two] = [side(from, before), side(to, after)]
      const pool = one.pool ?? two.pool
      return {
        key: `${code} ${product}`,
        account: two.name ?? one.name ?? code,
        pool: pool?.name ?? product,
        unit: pool ? unitName(pool.unit, 2) : '',
        figures: one.figures.map((figure, at): [string, string] => [figure, two.figures[at] ?? '–']),
      }
    }),
  )
}
