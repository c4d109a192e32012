import { ApiError } from '../../api/client'
import { Trouble } from '../../components/States'

interface Fault {
  file: string
  row: number | null
  column: string | null
  found: string
  expected: string
}

/** What is wrong with an intake: each fault with its place. */
export function Faults({ error }: { error: unknown }) {
  const faults = error instanceof ApiError && Array.isArray(error.body.faults) ? (error.body.faults as Fault[]) : []
  return (
    <>
      <Trouble error={error} />
      {faults.length > 0 && (
        <div className="overflow-x-auto">
          <table className="ledger tight" aria-label="Errors">
            <thead>
              <tr>
                <th>File</th>
                <th className="fig">Row</th>
                <th>Column</th>
                <th>Found</th>
                <th>Expected</th>
              </tr>
            </thead>
            <tbody>
              {faults.map((each, place) => (
                <tr key={place}>
                  <td>{each.file}</td>
                  <td className="fig">{each.row ?? '–'}</td>
                  <td>{each.column ?? '–'}</td>
                  <td>{each.found}</td>
                  <td>{each.expected}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </>
  )
}
