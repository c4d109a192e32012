import { useQuery } from '@tanstack/react-query'
import { useEffect, useMemo, useRef, useState } from 'react'
import { accountChoices, accountsNamed, productsInSight, type ProductName } from '../../api/queries'

export interface Names {
  account: (code: string) => string
  pool: (product: string) => ProductName | undefined
  product: (code: string) => string
}

/** So many names a screen asks for at most. */
const AT_ONCE = 200

/** What accounts and products are called, and their units. Of a large branch the accounts that are named are asked for. */
export function useNames(): Names {
  const choices = useQuery(accountChoices).data
  const products = useQuery(productsInSight).data
  const [wanted, setWanted] = useState<string[]>([])
  const named = useQuery(accountsNamed(wanted)).data
  const missing = useRef(new Set<string>())
  const found = useMemo(() => {
    const accounts = new Map(
      [...(choices?.accounts ?? []), ...(named ?? [])].map((each) => [each.account, each.full_name]),
    )
    const whole = choices !== undefined && choices.accounts.length === choices.total
    const pools = new Map(products?.map((each) => [each.product, each]))
    return {
      account: (code: string) => {
        if (!accounts.has(code) && choices && !whole) missing.current.add(code)
        return accounts.get(code) ?? code
      },
      pool: (product: string) => pools.get(product),
      product: (code: string) => pools.get(code)?.name ?? code,
    }
  }, [choices, products, named])
  // What is missing is known once all is drawn; it is asked for once, since it is wanted from then on.
  // eslint-disable-next-line react-hooks/exhaustive-deps
  useEffect(() => {
    const more = [...missing.current].filter((code) => !wanted.includes(code))
    if (more.length && wanted.length < AT_ONCE) setWanted([...wanted, ...more].slice(0, AT_ONCE))
    missing.current.clear()
  })
  return found
}
