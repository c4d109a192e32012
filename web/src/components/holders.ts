const part = encodeURIComponent

/** Where those are listed who hold a product of an account, who was seen least lately first. */
export function holders(item: { account: string; product: string; measure: string }): string {
  const query = `account=${part(item.account)}&product=${part(item.product)}`
  if (item.measure === 'device') return `/devices?${query}`
  if (item.measure === 'session') return `/sessions?${query}`
  if (item.measure === 'item') return `/numbers?${query}`
  return item.measure === 'storage' ? `/people?account=${part(item.account)}` : `/people?${query}&sort=last_seen`
}
