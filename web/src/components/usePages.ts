import { keepPreviousData, queryOptions, useQueries, useQuery } from '@tanstack/react-query'
import { useCallback, useMemo, useState } from 'react'
import { useKept } from './useKept'

const PAGE = 100

/**
 * A list as far as it is on screen: pages are fetched as they come into sight. Where a page comes without the total, which
 * takes longer, it is counted beside; until then the list is as long as it is known to be, and a page more. What comes and
 * goes by itself is asked for again `every` so many milliseconds; nothing is asked for before it `isReady`.
 */
export function usePages<T>(
  key: readonly unknown[],
  fetch: (offset: number, limit: number) => Promise<{ total: number | null; rows: T[] }>,
  count?: () => Promise<number>,
  every?: number,
  isReady = true,
) {
  const [shown, setShown] = useState<[number, number]>([0, 0])
  const numbers = useMemo(() => {
    const found = new Set([0])
    for (let number = Math.floor(shown[0] / PAGE); number <= Math.floor(shown[1] / PAGE); number++) found.add(number)
    return [...found]
  }, [shown])
  const page = (number: number) =>
    queryOptions({
      queryKey: [...key, number],
      queryFn: () => fetch(number * PAGE, PAGE),
      staleTime: 30_000,
      placeholderData: number === 0 ? keepPreviousData : undefined,
      retry: false,
      refetchInterval: every,
      enabled: isReady,
    })
  const pages = useQueries({ queries: numbers.map(page) })
  const onShown = useCallback(
    (first: number, last: number) => setShown((now) => (now[0] === first && now[1] === last ? now : [first, last])),
    [],
  )
  const rowAt = (place: number): T | undefined =>
    pages[numbers.indexOf(Math.floor(place / PAGE))]?.data?.rows[place % PAGE]
  const [first] = pages
  const counting = useQuery({
    queryKey: [...key, 'count'],
    queryFn: () => count?.() ?? Promise.resolve(0),
    enabled: count !== undefined && first?.data?.total === null && !first.isPlaceholderData,
    staleTime: 30_000,
    retry: false,
  })
  const known =
    (first?.data?.rows.length ?? 0) === PAGE ? Math.max(2 * PAGE, shown[1] + PAGE) : (first?.data?.rows.length ?? 0)
  const total = first?.data === undefined ? undefined : (first.data.total ?? counting.data ?? known)
  return {
    total,
    counted: first?.data !== undefined && (first.data.total ?? counting.data) !== undefined,
    error: first?.error ?? null,
    stale: first?.isPlaceholderData ?? false,
    /** Ask again after a failure. */
    refetch: () => Promise.all(pages.map((each) => each.refetch())),
    rowAt,
    onShown,
  }
}

/** Which rows of a list are marked, by a key of theirs, as they were when they were marked. */
export function useMarked<T>(rowAt: (place: number) => T | undefined, keyOf: (row: T) => string) {
  const [marked, setMarked] = useKept<Map<string, T>>('marked', () => new Map())
  const mark = (from: number, to: number, on: boolean) =>
    setMarked((now) => {
      const next = new Map(now)
      for (let place = from; place <= to; place++) {
        const row = rowAt(place)
        if (row && on) next.set(keyOf(row), row)
        if (row && !on) next.delete(keyOf(row))
      }
      return next
    })
  return {
    marked: [...marked.values()],
    isMarked: (row: T) => marked.has(keyOf(row)),
    mark,
    clear: () => setMarked(new Map()),
  }
}
