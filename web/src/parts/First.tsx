import { useState, type ReactNode } from 'react'
import { whole } from '../domain/units'

/** So many of a list are shown before the rest is asked for. */
export const FIRST = 50

/** The first of a list, and the rest when asked for; `items`: what is shown are the items of a list. */
export function First<T>({ of, show, items = false }: { of: T[]; show: (each: T) => ReactNode; items?: boolean }) {
  const [all, setAll] = useState(false)
  const more = !all && of.length > FIRST && (
    <button type="button" className="btn btn-link btn-sm p-0" onClick={() => setAll(true)}>
      Show {whole(of.length - FIRST)} more
    </button>
  )
  return (
    <>
      {(all ? of : of.slice(0, FIRST)).map(show)}
      {more && (items ? <li>{more}</li> : <p className="px-3 py-1 mb-0">{more}</p>)}
    </>
  )
}
