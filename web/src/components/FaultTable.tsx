interface Fault {
  /** Where several files are told of. */
  file?: string
  row: number | null
  column: string | null
  found: string
  expected: string
}

/** What is wrong in a file, each with its place and what would be right. */
export function FaultTable({ faults }: { faults: Fault[] }) {
  const files = faults.some((each) => each.file !== undefined)
  return (
    <div className="overflow-auto" style={{ maxHeight: '40vh' }} role="region" aria-label="Errors found" tabIndex={0}>
      <table className="ledger tight" aria-label="Errors">
        <thead>
          <tr>
            {files && <th>File</th>}
            <th className="fig">Row</th>
            <th>Column</th>
            <th>Found</th>
            <th>Expected</th>
          </tr>
        </thead>
        <tbody>
          {faults.map((each, place) => (
            <tr key={place}>
              {files && <td>{each.file}</td>}
              <td className="fig">{each.row ?? '–'}</td>
              <td>{each.column ?? '–'}</td>
              <td className="text-break">{each.found}</td>
              <td>{each.expected}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}
