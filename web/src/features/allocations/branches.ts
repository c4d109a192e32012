/** Which branches of a tree are open: all but some, or none but some. The top is always open and never named. */
export interface Branches {
  all: boolean
  except: ReadonlySet<string>
}

export const noneOpen: Branches = { all: false, except: new Set() }
export const allOpen: Branches = { all: true, except: new Set() }

/** So many are kept in an address. */
const MOST_NAMED = 60

export function isOpen({ all, except }: Branches, code: string): boolean {
  return all !== except.has(code)
}

/** The same with some branches opened or shut. */
export function withOpen(branches: Branches, codes: string[], open: boolean): Branches {
  const except = new Set(branches.except)
  for (const code of codes)
    if (open === branches.all) except.delete(code)
    else except.add(code)
  return except.size === branches.except.size && codes.every((code) => isOpen(branches, code) === open)
    ? branches
    : { all: branches.all, except }
}

/** As it stands in an address, and back. */
export function written({ all, except }: Branches): string {
  return [...(all ? ['*'] : []), ...[...except].slice(0, MOST_NAMED)].join(',')
}

export function read(text: string | null): Branches {
  const codes = (text ?? '').split(',').filter(Boolean)
  return { all: codes[0] === '*', except: new Set(codes.filter((code) => code !== '*')) }
}
