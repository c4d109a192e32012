import type { Schemas } from '../../api/client'
import { money, sum } from '../../domain/money'

/** Each department's part of every usage line; what stands beside them has no department. */
export function ByDepartment({ sheet }: { sheet: Schemas['SheetBody'] }) {
  const names = new Map<string, string>()
  const amounts = new Map<string, Map<string, string>>()
  for (const line of sheet.lines) {
    for (const part of line.parts) {
      names.set(part.account, part.name)
      const mine = amounts.get(part.account) ?? new Map<string, string>()
      mine.set(line.product, part.amount)
      amounts.set(part.account, mine)
    }
  }
  const rows = [...names].map(([account, name]) => ({
    account,
    name,
    by: amounts.get(account) ?? new Map<string, string>(),
  }))
  rows.sort((one, other) => Number(sum([...other.by.values()])) - Number(sum([...one.by.values()])))
  return (
    <table className="ledger">
      <thead>
        <tr>
          <th>Department</th>
          {sheet.lines.map((line) => (
            <th className="fig" key={line.product}>
              {line.product_name}
            </th>
          ))}
          <th className="fig">Together, {sheet.currency}</th>
        </tr>
      </thead>
      <tbody>
        {rows.map((row) => (
          <tr key={row.account}>
            <td style={{ fontWeight: 620 }}>{row.name}</td>
            {sheet.lines.map((line) => (
              <td className="fig" key={line.product}>
                {row.by.has(line.product) ? money(row.by.get(line.product) ?? '0') : <span className="quiet">–</span>}
              </td>
            ))}
            <td className="fig">
              <b>{money(sum([...row.by.values()]))}</b>
            </td>
          </tr>
        ))}
      </tbody>
      <tfoot>
        <tr>
          <td>{rows.length} departments</td>
          {sheet.lines.map((line) => (
            <td className="fig" key={line.product}>
              {money(line.amount)}
            </td>
          ))}
          <td className="fig">{money(sum(sheet.lines.map((each) => each.amount)))}</td>
        </tr>
      </tfoot>
    </table>
  )
}
