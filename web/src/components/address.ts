import { useCallback } from 'react'
import { useSearchParams } from 'react-router'

export type Changes = Record<string, string | null>

/**
 * What the address asks for, and a way to change some of it. Changes are made to the address as it stands at that
 * moment, not as it stood when the screen was last drawn: two in quick succession both count.
 */
export function useAddress(): [
  URLSearchParams,
  (changes: Changes, keep?: 'in the history') => void,
  (all: string | Record<string, string>) => void,
] {
  const [params, setParams] = useSearchParams()
  const change = useCallback(
    (changes: Changes, keep?: 'in the history') => {
      const next = new URLSearchParams(window.location.search)
      for (const [name, value] of Object.entries(changes))
        if (value) next.set(name, value)
        else next.delete(name)
      setParams(next, { replace: keep === undefined })
    },
    [setParams],
  )
  const replace = useCallback(
    (all: string | Record<string, string>) => setParams(new URLSearchParams(all), { replace: true }),
    [setParams],
  )
  return [params, change, replace]
}
