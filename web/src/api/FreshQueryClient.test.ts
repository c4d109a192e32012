import { QueryObserver } from '@tanstack/react-query'
import { describe, expect, it, vi } from 'vitest'
import { FreshQueryClient } from './FreshQueryClient'

/** Answers of a server in the order they were asked for, each given when the test says. */
function answers() {
  const asked: ((answer: string) => void)[] = []
  return { asked, queryFn: () => new Promise<string>((answer) => asked.push(answer)) }
}

describe('what is asked anew after an act', () => {
  it.each([
    ['a screen that waits for its first answer', true],
    ['a screen that has gone meanwhile', false],
  ])('is never what was asked before it: %s', async (_case, shown) => {
    const queries = new FreshQueryClient()
    const server = answers()
    const options = { queryKey: ['products'], queryFn: server.queryFn, staleTime: 30_000 }
    const observer = new QueryObserver(queries, options)
    const leave = observer.subscribe(() => undefined)
    if (!shown) leave()
    const anew = queries.invalidateQueries({ queryKey: ['products'] })
    server.asked[0]?.('before the act')
    if (!shown) new QueryObserver(queries, options).subscribe(() => undefined)
    await vi.waitFor(() => expect(server.asked).toHaveLength(2))
    server.asked[1]?.('after the act')
    await anew
    await vi.waitFor(() => expect(queries.getQueryData(['products'])).toBe('after the act'))
    expect(queries.getQueryState(['products'])?.fetchStatus).toBe('idle')
  })

  it('reaches who waits for it without showing it', async () => {
    const queries = new FreshQueryClient()
    const server = answers()
    const waits = queries.fetchQuery({ queryKey: ['groups'], queryFn: server.queryFn })
    void queries.invalidateQueries()
    server.asked[0]?.('before the act')
    await vi.waitFor(() => expect(server.asked).toHaveLength(2))
    server.asked[1]?.('after the act')
    expect(await waits).toBe('after the act')
  })

  it('leaves what nothing was said of', () => {
    const queries = new FreshQueryClient()
    const server = answers()
    new QueryObserver(queries, { queryKey: ['people'], queryFn: server.queryFn }).subscribe(() => undefined)
    void queries.invalidateQueries({ queryKey: ['products'] })
    expect(server.asked).toHaveLength(1)
  })
})
