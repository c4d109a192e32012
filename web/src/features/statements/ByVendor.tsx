import type { Schemas } from '../../api/client'
import { minus, money, percent, signed, sum } from '../../domain/money'

/** What each vendor's products come to, the largest first. */
export function ByVendor({ sheet, before }: { sheet: Schemas['SheetBody']; before: string }) {
  const of = new Map<string, Schemas['StatementLine'][]>()
  for (const line of sheet.lines) of.set(line.vendor, [...(of.get(line.vendor) ?? []), line])
  const rows = [...of].map(([vendor, lines]) => ({
    vendor,
    products: lines.map((each) => each.product_name).join(', '),
    amount: sum(lines.map((each) => each.amount)),
    before: sum(lines.map((each) => each.before ?? '0')),
  }))
  rows.sort((one, other) => Number(other.amount) - Number(one.amount))
  const total = sum(rows.map((each) => each.amount))
  return (
    <table className="ledger">
      <thead>
        <tr>
          <th>Vendor</th>
          <th>Products</th>
          <th className="fig">Amount, {sheet.currency}</th>
          <th className="fig">Share</th>
          <th className="fig">Since {before}</th>
        </tr>
      </thead>
      <tbody>
        {rows.map((row) => (
          <tr key={row.vendor}>
            <td style={{ fontWeight: 620 }}>{row.vendor || <span className="quiet">No vendor named</span>}</td>
            <td className="quiet">{row.products}</td>
            <td className="fig">
              <b>{money(row.amount)}</b>
            </td>
            <td className="fig quiet">{percent(row.amount, total)}</td>
            <td className="fig quiet">{signed(minus(row.amount, row.before))}</td>
          </tr>
        ))}
      </tbody>
      <tfoot>
        <tr>
          <td>
            {rows.length} {rows.length === 1 ? 'vendor' : 'vendors'}
          </td>
          <td />
          <td className="fig">{money(total)}</td>
          <td />
          <td className="fig">{signed(minus(total, sum(rows.map((each) => each.before))))}</td>
        </tr>
      </tfoot>
    </table>
  )
}
