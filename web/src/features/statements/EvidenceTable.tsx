import { useQuery } from '@tanstack/react-query'
import { Button } from 'react-bootstrap'
import { evidence as evidenceQuery, type Line } from '../../api/queries'
import { instantName, longDay } from '../../domain/months'
import { decimal, unitName, whole } from '../../domain/units'
import { Trouble, Wait } from '../../components/States'

/** What stands behind a day of a line: its assignments with their part of the day, or its samples. */
export function EvidenceTable({
  buyer,
  line,
  day,
  close,
}: {
  buyer: string
  line: Pick<Line, 'product' | 'unit' | 'measure' | 'days'>
  day: string
  close: () => void
}) {
  const found = useQuery(evidenceQuery(buyer, line.product, day))
  const storage = line.measure === 'storage'
  const reading = line.days.find((each) => each.day === day)
  return (
    <section className="evidence" aria-label={`Behind ${longDay(day)}`}>
      <h3 className="d-flex justify-content-between align-items-center">
        <span>
          {longDay(day)}:{' '}
          {[
            reading &&
              `${decimal(reading.used, 6)} ${unitName(line.unit, 2)} in use, ${decimal(reading.held, 6)} held, over ${reading.hours} hours`,
            found.data &&
              `${whole(found.data.rows.length)}${found.data.more ? ' and more' : ''} ${storage ? 'samples that count' : 'assignments'}`,
          ]
            .filter(Boolean)
            .join(' · ')}
        </span>
        <Button size="sm" variant="outline-primary" onClick={close}>
          Close the day
        </Button>
      </h3>
      {found.isError ? (
        <Trouble error={found.error} again={() => void found.refetch()} />
      ) : !found.data ? (
        <Wait what="the day" />
      ) : (
        <div className="scroll" role="region" aria-label="Evidence" tabIndex={0}>
          <table className="ledger">
            <thead>
              <tr>
                <th>Account</th>
                {storage && <th>Bytes are</th>}
                <th>{storage ? 'Category' : line.measure === 'seat' ? 'Person' : 'Subject'}</th>
                <th>{storage ? 'Sampled' : 'From'}</th>
                {!storage && <th>To</th>}
                <th className="fig">{storage ? 'Bytes' : 'Hours of the day'}</th>
              </tr>
            </thead>
            <tbody>
              {found.data.rows.map((row) => (
                <tr key={`${row.account} ${row.what} ${row.begins}`}>
                  <td>{row.account_name}</td>
                  {storage && (
                    <td>
                      {row.whose}
                      {row.name && ` of ${row.name}`}
                    </td>
                  )}
                  <td>{!storage && row.name ? <span title={row.what}>{row.name}</span> : row.what}</td>
                  <td>{instantName(row.begins)}</td>
                  {!storage && (
                    <td>{row.ends ? instantName(row.ends) : <span className="quiet">still in use</span>}</td>
                  )}
                  <td className="fig">
                    {storage ? whole(Number(row.figure)) : (Number(row.figure) / 3600).toFixed(2)}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </section>
  )
}
