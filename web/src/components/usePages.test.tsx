// @vitest-environment happy-dom
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { act, cleanup, renderHook, waitFor } from '@testing-library/react'
import { afterEach, describe, expect, it, vi } from 'vitest'
import { MemoryRouter } from 'react-router'
import { useMarked, usePages } from './usePages'

const wrapper = ({ children }: { children: React.ReactNode }) => (
  <MemoryRouter>
    <QueryClientProvider client={new QueryClient()}>{children}</QueryClientProvider>
  </MemoryRouter>
)
/** A list of so many numbers, told in pages; its length comes with them, or only when it is counted. */
const list = (length: number, told: boolean) =>
  vi.fn((offset: number, limit: number) =>
    Promise.resolve({
      total: told ? length : null,
      rows: Array.from({ length: Math.max(0, Math.min(limit, length - offset)) }, (_, at) => offset + at),
    }),
  )
afterEach(cleanup)

describe('a list in pages', () => {
  it('fetches what comes into sight and nothing else', async () => {
    const fetch = list(1000, true)
    const { result } = renderHook(() => usePages(['a'], fetch), { wrapper })
    await waitFor(() => expect(result.current.total).toBe(1000))
    expect([result.current.rowAt(7), result.current.rowAt(640)]).toEqual([7, undefined])
    act(() => result.current.onShown(620, 710))
    await waitFor(() => expect(result.current.rowAt(640)).toBe(640))
    expect(result.current.rowAt(705)).toBe(705)
    expect(fetch.mock.calls.map(([offset]) => offset)).toEqual([0, 600, 700])
  })

  it('is as long as it is known to be until it is counted', async () => {
    let tell: (count: number) => void = () => undefined
    const count = vi.fn(() => new Promise<number>((done) => (tell = done)))
    const { result } = renderHook(() => usePages(['b'], list(5_000, false), count), { wrapper })
    await waitFor(() => expect(result.current.total).toBe(200))
    expect(result.current.counted).toBe(false)
    act(() => result.current.onShown(150, 190))
    expect(result.current.total, 'one can always go a page further').toBe(290)
    act(() => tell(5_000))
    await waitFor(() => expect(result.current.total).toBe(5_000))
    expect(result.current.counted).toBe(true)
  })

  it('of less than a page is counted by what came', async () => {
    const { result } = renderHook(() => usePages(['c'], list(3, false)), { wrapper })
    await waitFor(() => expect(result.current.total).toBe(3))
  })

  it('says why it failed and asks again', async () => {
    const fetch = list(2, true)
    fetch.mockImplementationOnce(() => Promise.reject(new Error('The server does not answer.')))
    const { result } = renderHook(() => usePages(['d'], fetch), { wrapper })
    await waitFor(() => expect(result.current.error?.message).toBe('The server does not answer.'))
    await act(() => result.current.refetch())
    await waitFor(() => expect(result.current.total).toBe(2))
  })
})

describe('marked rows', () => {
  it('stay as they were marked, by their key, however far the list is walked', () => {
    const rows = [{ id: 1 }, { id: 2 }, { id: 3 }]
    const { result } = renderHook(
      () =>
        useMarked(
          (at) => rows[at],
          (row) => String(row.id),
        ),
      { wrapper },
    )
    act(() => result.current.mark(0, 5, true))
    act(() => result.current.mark(1, 1, false))
    expect(result.current.marked).toEqual([{ id: 1 }, { id: 3 }])
    rows.reverse()
    expect([result.current.isMarked({ id: 3 }), result.current.isMarked({ id: 2 })]).toEqual([true, false])
    act(() => result.current.clear())
    expect(result.current.marked).toEqual([])
  })
})
