import { useQuery } from '@tanstack/react-query'
import { productsInSight } from '../../api/queries'

/** What an entry is about, with names of products in place of their codes. */
export function useSubject(): (subject: string) => string {
  const products = useQuery(productsInSight).data ?? []
  const names = new Map(products.map((each) => [each.product, each.name]))
  return (subject) =>
    subject
      .split(' ')
      .map((word) => names.get(word.replace(/,$/, '')) ?? word)
      .join(' ')
}

/** A field of an entry as people call it. */
export const fieldName = (what: string) => (what === 'at_cap' ? 'at the cap' : what.replaceAll('_', ' '))
