import { describe, expect, it } from 'vitest'
import { concerns, nothing } from './draft'
import { afterShape, codeFor, parseLines } from './newAccounts'

describe('new accounts', () => {
  it('get codes that say their name and are not taken', () => {
    expect(codeFor('Señor Plover & Sons', new Set())).toBe('SENOR-PLOVER-SONS')
    expect(codeFor('Tern', new Set(['tern', 'tern-2']))).toBe('TERN-3')
  })
  it('come from a list, each line with what is wrong', () => {
    const lines = parseLines('Plover\tada@plover.example\nTern;;;TERN\n\nHeron;not-an-address\nPlover', ['TERN'])
    expect(lines.map((each) => [each.code, each.wrong])).toEqual([
      ['PLOVER', null],
      ['TERN', 'the code TERN is taken'],
      ['HERON', 'no e-mail address'],
      ['PLOVER-2', null],
    ])
  })
  it('take another one’s shape', () => {
    const [line] = parseLines('Plover', [])
    const shape = {
      accounts: [
        { code: 'TERN', name: 'Tern', parent: null, kind: 'client' as const, unallocated: 'free' as const },
        {
          code: 'TERN-RENTS',
          name: 'Rents',
          parent: 'TERN',
          kind: 'sub-account' as const,
          unallocated: 'free' as const,
        },
      ],
      terms: [{ account: 'TERN-RENTS', product: 'DISPATCH', terms: { ...nothing, cap: 5 } }],
      rates: [
        {
          product: 'DISPATCH',
          basis: 'held' as const,
          aggregate: 'average' as const,
          tier_mode: 'graduated' as const,
          included: '0',
          overage_price: null,
          minimum: null,
          fixed_fee: null,
          currency: null,
          committed: null,
          fees: 'whole' as const,
          markup: null,
          tiers: [{ from_quantity: '0', unit_price: '9.90' }],
        },
      ],
      admin_email: 'ada@msp.example',
      billing_email: null,
    }
    const changes = line ? afterShape(line, 'MSP', 'client', shape, '2026-11-01') : []
    expect(changes.map((each) => [each.kind, concerns(each)])).toEqual([
      ['new account', 'PLOVER'],
      ['new account', 'PLOVER-RENTS'],
      ['allocation', 'PLOVER-RENTS'],
      ['rate', 'PLOVER'],
    ])
    expect(changes[0]).toMatchObject({ parent: 'MSP', admin_email: 'ada@msp.example' })
    expect(changes[3]).toMatchObject({ seller: 'MSP', first_day: '2026-11-01' })
  })
})
