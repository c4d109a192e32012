import { Modal } from 'react-bootstrap'
import type { Schemas } from '../../api/client'
import type { ProductName } from '../../api/queries'
import { dayName } from '../../domain/months'
import { shortUnits, unitName, whole } from '../../domain/units'
import { VirtualTable, type Column } from '../../components/VirtualTable'
import { FromTo } from '../drafts/differences'

interface Difference {
  key: string
  account: string
  pool: string
  unit: string
  figures: [string, string][]
}

/** Every cell that differs between two days: reserve, cap and what is counted, from the earlier day's to the later one's. */
export function DaysCompared({
  products,
  found,
  close,
}: {
  products: ProductName[]
  found: Schemas['DaysDiffer']
  close: () => void
}) {
  const rows = rowsOf(found.cells, products)
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
        <Modal.Title as="h2" id="compared-title">
          From {dayName(found.earlier)} to {dayName(found.later)}: {whole(found.count)}{' '}
          {found.count === 1 ? 'cell differs' : 'cells differ'}
          {found.count > rows.length && <span className="quiet small"> · the first {rows.length} are listed</span>}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body style={{ height: '60vh', display: 'flex', flexDirection: 'column' }}>
        <VirtualTable
          rows={rows}
          columns={columns}
          rowKey={(row) => row.key}
          label="Differences between the two days"
        />
      </Modal.Body>
    </Modal>
  )
}

function rowsOf(cells: Schemas['CellDifference'][], products: ProductName[]): Difference[] {
  const named = new Map(products.map((each) => [each.product, each]))
  return cells.map((each) => {
    const product = named.get(each.product)
    const of = (then: Schemas['CellThen'] | null, figure: 'reserve' | 'cap' | 'load') => {
      if (!then) return '–'
      const value = then[figure]
      return value === null ? 'none' : shortUnits(value, product?.per_unit ?? 1)
    }
    return {
      key: `${each.account} ${each.product}`,
      account: each.name,
      pool: product?.name ?? each.product,
      unit: product ? unitName(product.unit, 2) : '',
      figures: (['reserve', 'cap', 'load'] as const).map((figure): [string, string] => [
        of(each.before, figure),
        of(each.after, figure),
      ]),
    }
  })
}
