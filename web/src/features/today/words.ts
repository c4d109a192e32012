import type { Today } from '../../api/queries'
import { roundUnits, unitName } from '../../domain/units'

export type Pressed = Today['pressed'][number]

/** So many grains of a product, with its unit. */
export const of = (item: { unit: string; per_unit: number }, grains: number) =>
  `${roundUnits(grains, item.per_unit)} ${unitName(item.unit, grains / item.per_unit)}`

/** Where a cell of the grid is. */
export const cellAddress = (account: string, product: string, measure: string) =>
  `/allocations?account=${encodeURIComponent(account)}&product=${encodeURIComponent(product)}${measure === 'storage' ? '&pools=storage' : ''}`
