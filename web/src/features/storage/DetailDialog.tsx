import { useQuery } from '@tanstack/react-query'
import { scaleLinear, scaleUtc } from 'd3-scale'
import { Button, Modal } from 'react-bootstrap'
import { Trouble, Wait } from '../../components/States'
import { useNarrow } from '../../components/useNarrow'
import { dayName } from '../../domain/months'
import { roundUnits, units, whole } from '../../domain/units'
import { FolderForm } from './FolderForm'
import { LeftBehind } from './LeftBehind'
import { storageDetail, type StorageRow, type What } from './queries'

/** One of a list, looked at closely: category by category, and over time. */
export function DetailDialog({
  product,
  perUnit,
  row,
  what,
  day,
  close,
  openPerson,
}: {
  product: string
  perUnit: number
  row: StorageRow
  what: Exclude<What, 'accounts'>
  /** The day the row is of; empty = now. */
  day: string
  close: () => void
  openPerson: () => void
}) {
  const found = useQuery(storageDetail(product, row, what))
  const isWide = what === 'folders' || !row.here
  const width = useNarrow() ? 330 : isWide ? 766 : 460
  return (
    <Modal show onHide={close} animation={false} {...(isWide && { size: 'lg' })} aria-labelledby="detail-title">
      <Modal.Header closeButton>
        <Modal.Title as="h2" id="detail-title">
          {row.title} <span className="quiet small">{row.account_name}</span>
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        <p className="say">
          {units(row.size.now, perUnit)} GB
          {day && ` on ${dayName(day)}; below is what is stored now`}
          {row.limit !== null && ` of ${units(row.limit, perUnit)} GB, ${row.source ?? 'its limit'}`}
          {what === 'people' && !row.here && '; left behind by somebody who is not of this account any more'}.
        </p>
        {found.isPending ? (
          <Wait what="the sizes" />
        ) : found.isError ? (
          <Trouble error={found.error} again={() => void found.refetch()} />
        ) : (
          <>
            {what === 'people' && !row.here && (
              <LeftBehind product={product} perUnit={perUnit} row={row} close={close} />
            )}
            {what === 'folders' && <FolderForm product={product} perUnit={perUnit} row={row} close={close} />}
            <Over days={found.data.days} perUnit={perUnit} limit={row.limit} width={width} />
            {found.data.members.length > 0 && (
              <table className="ledger tight mb-2" aria-label="Members">
                <thead>
                  <tr>
                    <th>Member</th>
                    <th className="fig">Wrote, GB</th>
                  </tr>
                </thead>
                <tbody>
                  {found.data.members.map((each) => (
                    <tr key={each.username}>
                      <td>{each.name}</td>
                      <td className="fig">{units(each.size, perUnit)}</td>
                    </tr>
                  ))}
                </tbody>
              </table>
            )}
            <table className="ledger tight" aria-label="Categories">
              <thead>
                <tr>
                  <th>Category</th>
                  <th className="fig">GB</th>
                </tr>
              </thead>
              <tbody>
                {found.data.categories.map((each) => (
                  <tr key={each.category}>
                    <td>{each.category}</td>
                    <td className="fig">{units(each.size, perUnit)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </>
        )}
      </Modal.Body>
      <Modal.Footer>
        {what === 'people' && row.here && (
          <Button variant="outline-primary" onClick={openPerson}>
            Open person
          </Button>
        )}
        <Button onClick={close}>Close</Button>
      </Modal.Footer>
    </Modal>
  )
}

const [HEIGHT, LEFT, TOP, BOTTOM] = [142, 40, 20, 18]

function Over({
  days,
  perUnit,
  limit,
  width,
}: {
  days: { day: string; size: number }[]
  perUnit: number
  limit: number | null
  width: number
}) {
  const [first, last] = [days[0], days.at(-1)]
  if (!first || !last) return null
  const at = (day: string) => Date.parse(`${day}T00:00:00Z`)
  const x = scaleUtc([at(first.day), Math.max(at(last.day), at(first.day) + 86_400_000)], [LEFT, width - 8])
  const most = Math.max(1, ...days.map((each) => each.size), limit ?? 0) / perUnit
  const y = scaleLinear([0, most], [HEIGHT - BOTTOM, TOP]).nice(3)
  const line = days.map((each, n) => `${n ? `H${x(at(each.day))}V` : `M${x(at(each.day))},`}${y(each.size / perUnit)}`)
  return (
    <svg
      className="poolchart mb-2"
      width={width}
      height={HEIGHT}
      role="img"
      aria-label={`From ${units(first.size, perUnit)} GB on ${dayName(first.day)} to ${units(last.size, perUnit)} GB on ${dayName(last.day)}`}
    >
      {y.ticks(3).map((tick) => (
        <g className="tick" key={tick}>
          <line x1={LEFT} x2={width - 8} y1={y(tick)} y2={y(tick)} />
          <text x={LEFT - 6} y={y(tick) + 4} textAnchor="end">
            {tick < 1000 ? whole(tick) : roundUnits(tick * perUnit, perUnit)}
          </text>
        </g>
      ))}
      <g className="tick">
        <text x={LEFT} y={11}>
          GB
        </text>
      </g>
      <path className="storedline" d={line.join('')} />
      {limit !== null && (
        <line className="storedlimit" x1={LEFT} x2={width - 8} y1={y(limit / perUnit)} y2={y(limit / perUnit)} />
      )}
      <g className="tick">
        <text x={LEFT} y={HEIGHT - 4}>
          {dayName(first.day)}
        </text>
        <text x={width - 8} y={HEIGHT - 4} textAnchor="end">
          {dayName(last.day)}
        </text>
      </g>
    </svg>
  )
}
