/** What of the people list an address asks for, as the server is asked. */

export interface PeopleFilter {
  find: string
  account: string | null
  group: string | null
  product: string | null
  without: string | null
  status: 'active' | 'invited' | 'suspended' | 'removed' | null
  seen: string | null
  admin: boolean | null
  protected: boolean | null
  filter: string | null
  component: string | null
}

export type Sort = 'name' | 'username' | 'account' | 'status' | 'title' | 'department' | 'last_seen'
export const SORTS: Sort[] = ['name', 'username', 'account', 'status', 'title', 'department', 'last_seen']
const STATUSES = ['active', 'invited', 'suspended', 'removed'] as const

function truth(text: string | null): boolean | null {
  return text === 'yes' ? true : text === 'no' ? false : null
}

export function readFilter(params: URLSearchParams): PeopleFilter {
  const status = params.get('status')
  return {
    find: params.get('find') ?? '',
    account: params.get('account'),
    group: params.get('group'),
    product: params.get('product'),
    without: params.get('without'),
    status: STATUSES.find((each) => each === status) ?? null,
    seen: params.get('seen'),
    admin: truth(params.get('admin')),
    protected: truth(params.get('protected')),
    filter: params.get('filter'),
    component: params.get('component'),
  }
}

/** Without what is not asked for: for the server and for files. */
export function given(asked: PeopleFilter): Partial<Record<keyof PeopleFilter, string>> {
  return Object.fromEntries(
    Object.entries(asked)
      .filter(([, value]) => value !== null && value !== '')
      .map(([name, value]) => [name, String(value)]),
  )
}

/** Only what is given, as it is: neither an address nor a request carries nothings. */
export function plain<T extends object>(asked: T) {
  return Object.fromEntries(Object.entries(asked).filter(([, value]) => value !== null && value !== '')) as Partial<{
    [K in keyof T]: NonNullable<T[K]>
  }>
}

/** Active filters in words, each with the parameter that takes it away. */
export function inWords(
  asked: PeopleFilter,
  names: { account: (code: string) => string; product: (code: string) => string },
): { name: string; says: string }[] {
  const found: { name: string; says: string }[] = []
  const add = (name: string, value: unknown, says: string) => {
    if (value !== null && value !== '') found.push({ name, says })
  }
  add('account', asked.account, `of ${names.account(asked.account ?? '')}`)
  add('group', asked.group, `in ${asked.group?.split('/')[1] ?? ''}`)
  add('product', asked.product, `with ${names.product(asked.product ?? '')}`)
  add('without', asked.without, `without ${names.product(asked.without ?? '')}`)
  add(
    'component',
    asked.component,
    `with ${asked.component?.split('/')[1] ?? ''} of ${names.product(asked.component?.split('/')[0] ?? '')}`,
  )
  add('status', asked.status, asked.status ?? '')
  add('seen', asked.seen, asked.seen === 'never' ? 'never seen' : `not seen for ${asked.seen ?? ''} days`)
  add('admin', asked.admin, asked.admin ? 'admins' : 'no admins')
  add('protected', asked.protected, asked.protected ? 'protected' : 'not protected')
  add('filter', asked.filter, asked.filter ?? '')
  return found
}

/** A condition of a rule as the builder has it. */
export interface Condition {
  attribute: string
  operator: string
  value: string
}

export const ATTRIBUTES: { name: string; label: string; kind: 'text' | 'truth' | 'instant' }[] = [
  { name: 'title', label: 'title', kind: 'text' },
  { name: 'department', label: 'department', kind: 'text' },
  { name: 'displayName', label: 'name', kind: 'text' },
  { name: 'userName', label: 'username', kind: 'text' },
  { name: 'emails.value', label: 'e-mail address', kind: 'text' },
  { name: 'active', label: 'active', kind: 'truth' },
  { name: 'protected', label: 'protected', kind: 'truth' },
  { name: 'lastSeenAt', label: 'last seen', kind: 'instant' },
]
export const OPERATORS: Record<'text' | 'truth' | 'instant', [string, string][]> = {
  text: [
    ['eq', 'is'],
    ['ne', 'is not'],
    ['co', 'contains'],
    ['sw', 'begins with'],
    ['ew', 'ends with'],
    ['pr', 'is given'],
  ],
  truth: [
    ['eq', 'is'],
    ['ne', 'is not'],
  ],
  instant: [
    ['lt', 'before'],
    ['ge', 'on or after'],
    ['pr', 'is known'],
  ],
}

function kindOf(attribute: string): 'text' | 'truth' | 'instant' {
  return ATTRIBUTES.find((each) => each.name === attribute)?.kind ?? 'text'
}

/** Conditions as a filter: all, or any of them, have to hold. */
export function written(conditions: Condition[], join: 'and' | 'or'): string {
  return conditions
    .map(({ attribute, operator, value }) => {
      if (operator === 'pr') return `${attribute} pr`
      if (kindOf(attribute) === 'truth') return `${attribute} ${operator} ${value === 'false' ? 'false' : 'true'}`
      if (kindOf(attribute) === 'instant') return `${attribute} ${operator} "${value}T00:00:00Z"`
      return `${attribute} ${operator} ${JSON.stringify(value)}`
    })
    .join(` ${join} `)
}

/** A filter as the builder's conditions; null where it says more than the builder can. */
export function readBack(text: string): { conditions: Condition[]; join: 'and' | 'or' } | null {
  if (!text.trim()) return { conditions: [], join: 'and' }
  const one = /\s*([A-Za-z.]+)\s+(?:(pr)|(eq|ne|co|sw|ew|lt|ge)\s+(true|false|"(?:[^"\\]|\\.)*"))\s*/y
  const conditions: Condition[] = []
  const joins = new Set<string>()
  let at = 0
  for (;;) {
    one.lastIndex = at
    const found = one.exec(text)
    if (!found) return null
    const [whole, attribute = '', present, operator = '', value = ''] = found
    if (!ATTRIBUTES.some((each) => each.name === attribute)) return null
    const plain = value.startsWith('"') ? (JSON.parse(value) as string) : value
    if (kindOf(attribute) === 'instant' && !present && !/T00:00:00Z$/.test(plain)) return null
    if (!OPERATORS[kindOf(attribute)].some(([name]) => name === (present ?? operator))) return null
    conditions.push({
      attribute,
      operator: present ?? operator,
      value: kindOf(attribute) === 'instant' ? plain.slice(0, 10) : plain,
    })
    at += whole.length
    if (at === text.length) break
    const join = /^(and|or)\s/.exec(text.slice(at))
    if (!join) return null
    joins.add(join[1] ?? '')
    at += (join[1] ?? '').length
  }
  return joins.size > 1 ? null : { conditions, join: joins.has('or') ? 'or' : 'and' }
}
