import { describe, expect, it } from 'vitest'
import { nothing } from './draft'
import { afterShape, codeFor, parseLines } from './newAccounts'

describe('new accounts', () => {
  it('get codes that say their name and are not taken', () => {
    expect(codeFor('Señor Plover & Sons', new Set())).toBe('SENOR-PLOVER-SONS')
    expect(codeFor('Tern', new Set(['tern', 'tern-2']))).toBe('TERN-3')
  })
  it('come from a list, each line with what is wrong', () => {
    const lines = parseLines('Plover\tada@plover.example\nTern;;;TERN\n\nHeron;not-an-address\nPlover', ['TERN'])
    expect(lines.map((each) => [each.code, each.wrong])).toEqual([
      ['PLOVER', null], ['TERN', 'the code TERN is taken'], ['HERON', 'no e-mail address'], ['PLOVER-2', null],
    ])
  })
  it('take another one’s shape', () => {
    const [line] = parseLines('Plover', [])
    const shape = {
      accounts: [{ code: 'TERN', name: 'Tern', parent: 'MSP', kind: 'client' }, { code: 'TERN-RENTS', name: 'Rents', parent: 'TERN', kind: 'sub-account' }],
      terms: [{ account: 'TERN-RENTS', product: 'VOICE', terms: { ...nothing, cap: 5 } }],
    }
    const changes = line ? afterShape(line, 'MSP', 'client', shape) : []
    expect(changes.map((each) => (each.kind === 'new account' ? [each.code, each.parent] : [each.account, each.product]))).toEqual([
      ['PLOVER', 'MSP'], ['PLOVER-RENTS', 'PLOVER'], ['PLOVER-RENTS', 'VOICE'],
    ])
  })
})
