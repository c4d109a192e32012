/** New accounts as changes for a draft: from a list of names, or after another account's shape. */

import type { AllocationChange, NewAccount, RateChange, RateTerms, Terms } from './draft'

export interface Line {
  name: string
  code: string
  admin: string | null
  billing: string | null
  wrong: string | null
}

/** A code that says the name: capitals, digits and hyphens, unlike any that is taken. */
export function codeFor(name: string, taken: Set<string>): string {
  const base =
    name
      .normalize('NFD')
      .replace(/[\u0300-\u036f]/g, '')
      .toUpperCase()
      .replace(/[^A-Z0-9]+/g, '-')
      .slice(0, 40)
      .replace(/^-+|-+$/g, '') || 'ACCOUNT'
  let code = base
  for (let number = 2; taken.has(code.toLowerCase()); number++) code = `${base}-${number}`
  return code
}

/** Lines as typed or pasted: name, then, if given, admin's and billing contact's address and a code, apart by tabs or semicolons. */
export function parseLines(text: string, taken: string[]): Line[] {
  const used = new Set(taken.map((each) => each.toLowerCase()))
  return text
    .split(/\r?\n/)
    .map((line) => line.split(/\t|;/).map((each) => each.trim()))
    .filter((cells) => cells.some(Boolean))
    .map((cells) => {
      const [name = '', admin = '', billing = '', given = ''] = cells
      const code = given || codeFor(name, used)
      let wrong: string | null = null
      if (!name) wrong = 'no name'
      else if (name.length > 200) wrong = 'a name of at most 200 characters'
      else if (!/^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$/.test(code)) wrong = 'a code of letters, digits, . _ and -'
      else if (used.has(code.toLowerCase())) wrong = `the code ${code} is taken`
      else if ([admin, billing].some((each) => each && !/^[^\s@]+@[^\s@]+$/.test(each))) wrong = 'no e-mail address'
      used.add(code.toLowerCase())
      return { name, code, admin: admin || null, billing: billing || null, wrong }
    })
}

export interface Shape {
  /** The account whose shape is taken, then those below it, parents first. */
  accounts: {
    code: string
    name: string
    parent: string | null
    kind: NewAccount['account_kind']
    unallocated: NewAccount['unallocated']
  }[]
  terms: { account: string; product: string; terms: Terms }[]
  /** How its seller prices products for the first account alone. */
  rates: (RateTerms & { product: string })[]
  admin_email: string | null
  billing_email: string | null
}

/** A new client after another one's shape: its departments, the same reserves and caps everywhere, and the rates written for it, from a day on. */
export function afterShape(
  line: Line,
  parent: string,
  kind: NewAccount['account_kind'],
  shape: Shape | null,
  ratesFrom: string,
  unallocated: NewAccount['unallocated'] = 'none',
): (NewAccount | AllocationChange | RateChange)[] {
  const first: NewAccount = {
    kind: 'new account',
    code: line.code,
    parent,
    account_kind: kind,
    name: line.name,
    admin_email: line.admin ?? shape?.admin_email ?? null,
    billing_email: line.billing ?? shape?.billing_email ?? null,
    unallocated,
  }
  if (!shape) return [first]
  const [top, ...below] = shape.accounts
  const codes = new Map([[top?.code ?? '', line.code]])
  for (const each of below)
    codes.set(
      each.code,
      each.code.startsWith(`${top?.code ?? ''}-`)
        ? line.code + each.code.slice((top?.code ?? '').length)
        : `${line.code}-${each.code}`,
    )
  return [
    first,
    ...below.map((each): NewAccount => ({
      kind: 'new account',
      code: codes.get(each.code) ?? each.code,
      parent: codes.get(each.parent ?? '') ?? line.code,
      account_kind: each.kind,
      name: each.name,
      admin_email: null,
      billing_email: null,
      unallocated: each.unallocated,
    })),
    ...shape.terms.map((each): AllocationChange => ({
      kind: 'allocation',
      account: codes.get(each.account) ?? each.account,
      product: each.product,
      terms: each.terms,
      seen: null,
      was: null,
    })),
    ...shape.rates.map((each): RateChange => ({
      ...each,
      kind: 'rate',
      gone: false,
      seller: parent,
      buyer: line.code,
      first_day: ratesFrom,
    })),
  ]
}
