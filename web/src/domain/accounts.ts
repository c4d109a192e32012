/** Accounts as they are chosen from: code and name, in the order of the tree, each as far in as it stands below. */
export function accountChoices(accounts: { code: string[]; name: string[]; parent: number[] } | undefined): [string, string][] {
  const depth = (place: number): number => {
    let found = 0
    for (let at = accounts?.parent[place] ?? -1; at >= 0; at = accounts?.parent[at] ?? -1) found++
    return found
  }
  return accounts?.code.map((code, at): [string, string] => [code, `${'\u00a0'.repeat(2 * depth(at))}${accounts.name[at] ?? code}`]) ?? []
}
