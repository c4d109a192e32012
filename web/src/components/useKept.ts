import { useEffect, useState } from 'react'
import { useLocation } from 'react-router'

const MOST = 200
const kept = new Map<string, unknown>()

/** Something that belongs to an entry of the browser's history: going back to it finds it again. */
export function useEntry<T>(name: string) {
  const slot = `${useLocation().key} ${name}`
  return {
    read: () => kept.get(slot) as T | undefined,
    write: (value: T) => {
      kept.delete(slot)
      kept.set(slot, value)
      const [oldest] = kept.keys()
      if (kept.size > MOST && oldest !== undefined) kept.delete(oldest)
    },
  }
}

/** State that going back finds as it was left. */
export function useKept<T>(name: string, first: () => T) {
  const entry = useEntry<T>(name)
  const [value, setValue] = useState(() => entry.read() ?? first())
  useEffect(() => entry.write(value))
  return [value, setValue] as const
}
