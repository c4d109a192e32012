// @vitest-environment happy-dom
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { act, cleanup, render, waitFor } from '@testing-library/react'
import { afterEach, beforeEach, describe, expect, it, vi } from 'vitest'
import { allocationSlot, bySlot, type AllocationChange, type Change } from '../../domain/draft'
import { useDraft, type OpenDraft } from './context'
import { DraftProvider } from './DraftProvider'

interface Edit {
  draft: number | null
  revision: number
  put: Change[]
  forget: { kind: string; key: string }[]
}

/** A server that holds one draft, answers each edit of the newest revision and refuses those of an older one. */
const server = {
  id: null as number | null,
  revision: 0,
  changes: {} as Record<string, Change>,
  state: 'open',
  edits: [] as Edit[],
  atOnce: 0,
  most: 0,
  fails: false,
  asked: 0,
  answersIn: 5,
  body: () =>
    server.id === null
      ? null
      : { id: server.id, revision: server.revision, state: server.state, changes: Object.values(server.changes) },
}

vi.mock('../../api/client', () => {
  class ApiError extends Error {
    status: number
    constructor(status: number) {
      super(`refused with ${status}`)
      this.status = status
    }
  }
  const answer = <T,>(value: T) => new Promise<T>((done) => setTimeout(() => done(value), server.answersIn))
  return {
    ApiError,
    take: async (asked: Promise<unknown>) => asked,
    api: {
      GET: (path: string) => {
        if (path === '/api/me') return answer({ running: { permissions: ['allocations.see', 'drafts.change'] } })
        server.asked += 1
        return answer(server.body())
      },
      PATCH: async (_: string, { body }: { body: Edit }) => {
        server.most = Math.max(server.most, ++server.atOnce)
        await new Promise((done) => setTimeout(done, 60))
        server.atOnce -= 1
        if (server.fails) throw new ApiError(503)
        if (body.draft !== server.id || (server.id !== null && body.revision !== server.revision))
          throw new ApiError(409)
        server.edits.push(body)
        server.id ??= 4
        server.revision += 1
        for (const { kind, key } of body.forget) delete server.changes[`${kind}\n${key}`]
        Object.assign(server.changes, bySlot(body.put))
        return server.body()
      },
    },
  }
})

const cap = (account: string, cap: number): AllocationChange => ({
  kind: 'allocation',
  account,
  product: 'MAIL',
  terms: { reserve: 0, cap, at_cap: 'block', burst: null, grace_days: null, per: null, each: null },
  seen: null,
  was: null,
})
const caps = () =>
  Object.fromEntries(Object.values(server.changes).map((each) => [(each as AllocationChange).account, capOf(each)]))
const capOf = (change: Change | undefined) => (change as AllocationChange | undefined)?.terms?.cap
let draft: OpenDraft

function Reader() {
  draft = useDraft()
  return <p>{draft.count} changes</p>
}

async function opened() {
  const queries = new QueryClient({ defaultOptions: { queries: { retry: false } } })
  render(
    <QueryClientProvider client={queries}>
      <DraftProvider>
        <Reader />
      </DraftProvider>
    </QueryClientProvider>,
  )
  await waitFor(() => expect(server.asked).toBe(1))
  await act(() => new Promise((done) => setTimeout(done, 20)))
}
const settled = () => waitFor(() => expect(draft.busy).toBe(false))
const typed = (...changes: Change[]) => act(() => draft.set(changes))

beforeEach(() => {
  Object.assign(server, {
    id: null,
    revision: 0,
    changes: {},
    state: 'open',
    edits: [],
    most: 0,
    fails: false,
    asked: 0,
    answersIn: 5,
  })
  sessionStorage.clear()
})
afterEach(cleanup)

describe('the open draft', () => {
  it('is there at once and on the server a moment later, with one request for what is typed together', async () => {
    await opened()
    typed(cap('TERN', 20))
    typed(cap('WREN', 9))
    expect(draft.count).toBe(2)
    await waitFor(() => expect(caps()).toEqual({ TERN: 20, WREN: 9 }))
    expect(server.edits).toHaveLength(1)
  })

  it('sends one request at a time, each with what differs since the last', async () => {
    await opened()
    typed(cap('TERN', 20))
    await waitFor(() => expect(server.atOnce).toBe(1))
    typed(cap('TERN', 21), cap('WREN', 9))
    typed(cap('LARK', 3))
    await waitFor(() => expect(caps()).toEqual({ TERN: 21, WREN: 9, LARK: 3 }))
    expect([server.most, server.edits.length]).toEqual([1, 2])
    expect(server.edits[1]?.put.map((each) => (each as AllocationChange).account).sort()).toEqual([
      'LARK',
      'TERN',
      'WREN',
    ])
  })

  it('undoes and does again, there as here', async () => {
    await opened()
    typed(cap('TERN', 20))
    typed(cap('TERN', 30))
    act(() => draft.undo())
    expect(capOf(draft.changes[allocationSlot('TERN', 'MAIL')])).toBe(20)
    act(() => draft.undo())
    expect(draft.count).toBe(0)
    act(() => draft.redo())
    await waitFor(() => expect(caps()).toEqual({ TERN: 20 }))
    act(() => draft.forget([allocationSlot('TERN', 'MAIL')]))
    await waitFor(() => expect(caps()).toEqual({}))
    expect(server.edits.at(-1)?.forget).toHaveLength(1)
  })

  it('lays what one typed over what a colleague changed meanwhile', async () => {
    await opened()
    typed(cap('TERN', 20))
    await waitFor(() => expect(server.edits).toHaveLength(1))
    await settled()
    Object.assign(server, { revision: 9, changes: bySlot([cap('TERN', 25), cap('LARK', 4)]) })
    typed(cap('WREN', 9))
    await waitFor(() => expect(caps()).toEqual({ TERN: 25, LARK: 4, WREN: 9 }))
    expect(draft.count).toBe(3)
  })

  it('begins another where the old one was applied meanwhile', async () => {
    await opened()
    typed(cap('TERN', 20))
    await waitFor(() => expect(server.edits).toHaveLength(1))
    await settled()
    server.state = 'applied'
    server.revision += 1
    typed(cap('WREN', 9))
    // Applied by a colleague: what is typed now belongs to a draft of its own.
    await waitFor(() => expect(Object.keys(draft.changes)).toEqual([allocationSlot('WREN', 'MAIL')]))
  })

  it('keeps what is typed before the draft there is has come', async () => {
    Object.assign(server, { id: 4, revision: 2, changes: bySlot([cap('LARK', 4)]), answersIn: 45 })
    await opened()
    typed(cap('TERN', 20))
    await waitFor(() => expect(caps()).toEqual({ LARK: 4, TERN: 20 }))
    await waitFor(() => expect(draft.busy).toBe(false))
    expect(Object.keys(draft.changes)).toHaveLength(2)
  })

  it('keeps what is on its way when the page is loaded again before it is there', async () => {
    Object.assign(server, { id: 4, revision: 2, changes: bySlot([cap('LARK', 4)]) })
    await opened()
    act(() => draft.forget([allocationSlot('LARK', 'MAIL')]))
    typed(cap('TERN', 20))
    window.dispatchEvent(new Event('pagehide'))
    cleanup()
    server.asked = 0
    await opened()
    await waitFor(() => expect(caps()).toEqual({ TERN: 20 }))
    await settled()
    expect(draft.count).toBe(1)
    // Nothing of it is done once more.
    cleanup()
    Object.assign(server, { id: null, changes: {}, asked: 0 })
    await opened()
    expect(draft.count).toBe(0)
  })

  it('keeps what is typed while the server fails, and acts on the whole of it once it answers', async () => {
    await opened()
    server.fails = true
    typed(cap('TERN', 20))
    await waitFor(() => expect(draft.error).toBeTruthy())
    expect(draft.count).toBe(1)
    server.fails = false
    typed(cap('WREN', 9))
    const applied = vi.fn(() => Promise.resolve())
    await act(() => draft.settle(applied, true))
    expect(caps()).toEqual({ TERN: 20, WREN: 9 })
    expect(applied).toHaveBeenCalledExactlyOnceWith(4, server.revision)
    expect(draft.count).toBe(0)
  })
})
