import { useState, type ReactNode } from 'react'
import { whole } from '../domain/units'

/** So many of a list are shown before the rest is asked for. */
export const FIRST = 50

interface Props<T> {
  of: T[]
  show: (each: T) => ReactNode
  /** What is shown are the items of a list. */
  items?: boolean
  /** What is shown are rows of a table with so many columns. */
  row?: number
}

/** The first of a list, and the rest when asked for. */
export function First<T>({ of, show, items = false, row }: Props<T>) {
  const [all, setAll] = useState(false)
  const more = !all && of.length > FIRST && (
    <button type="button" className="btn btn-link btn-sm p-0" onClick={() => setAll(true)}>
      Show {whole(of.length - FIRST)} more
    </button>
  )
  return (
    <>
      {(all ? of : of.slice(0, FIRST)).map(show)}
      {more &&
        (row ? (
          <tr>
            <td colSpan={row}>{more}</td>
          </tr>
        ) : items ? (
          <li>{more}</li>
        ) : (
          <p className="px-3 py-1 mb-0">{more}</p>
        ))}
    </>
  )
}
