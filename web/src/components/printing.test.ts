// @vitest-environment happy-dom
import { afterEach, describe, expect, it, vi } from 'vitest'
import { forReaders, printSheet, withoutCosts, type Table } from './printing'

const TABLE: Table = {
  columns: ['seller', 'seller_name', 'buyer', 'amount', 'cost', 'note', 'said'],
  rows: [
    ['MSP', 'Msp', 'TERN', { figure: '1234.5' }, { figure: '7' }, '', '2026-10-31'],
    ['MSP', 'Msp', 'OAK', { figure: '3.25' }, { figure: '2' }, null, 'a;b'],
  ],
  totals: [['Total EUR', null, null, { figure: '1237.75' }, { figure: '9' }, null, null]],
}

describe('a printed table', () => {
  afterEach(() => vi.unstubAllGlobals())

  it('says names once, nothing empty, and costs only if asked for', () => {
    const shown = forReaders(withoutCosts(TABLE))
    expect(shown.columns).toEqual(['Seller', 'Buyer', 'Amount', 'Said'])
    expect(shown.rows[0]).toEqual(['Msp', 'TERN', { figure: '1234.5' }, '2026-10-31'])
    expect(shown.totals).toEqual([['Total EUR', null, { figure: '1237.75' }, null]])
    expect(forReaders(TABLE).columns).toContain('Cost')
  })

  it('has figures beneath each other, and those among words as they are', () => {
    let cells: (string | null)[] = []
    vi.stubGlobal('print', () => {
      cells = [...document.querySelectorAll('.printsheet td')].map((each) => each.textContent)
      window.dispatchEvent(new Event('afterprint'))
    })
    const rows = [
      [{ figure: '1234.5' }, { figure: '3.00' }, '2026-10-31'],
      [{ figure: '3.25' }, '3.90, 3.40 from 50', 'a;b'],
    ]
    printSheet('Prices', [], { columns: ['a', 'b', 'c'], rows, totals: [] })
    expect(cells).toEqual(['1\u00a0234.50', '3.00', '31 Oct 2026', '3.25', '3.90, 3.40 from 50', 'a; b'])
    expect(document.querySelector('.printsheet')).toBeNull()
  })
})
