import { useQuery } from '@tanstack/react-query'
import { useMemo } from 'react'
import { grid as gridQuery, type Pool } from '../../api/queries'

export interface Names {
  account: (code: string) => string
  /** The account's place in the pools' lists; -1 where it is not there. */
  place: (code: string) => number
  pool: (product: string) => Pool | undefined
  product: (code: string) => string
}

/** What accounts and products are called, and their units, from the grid that is there already. */
export function useNames(): Names {
  const found = useQuery(gridQuery)
  return useMemo(() => {
    const accounts = new Map(
      found.data?.accounts.code.map((code, place) => [code, found.data.accounts.name[place] ?? code]),
    )
    const pools = new Map(found.data?.pools.map((pool) => [pool.product, pool]))
    return {
      account: (code) => accounts.get(code) ?? code,
      place: (code) => found.data?.accounts.code.indexOf(code) ?? -1,
      pool: (product) => pools.get(product),
      product: (code) => pools.get(code)?.name ?? code,
    }
  }, [found.data])
}
