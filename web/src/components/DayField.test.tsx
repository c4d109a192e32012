// @vitest-environment happy-dom
import { QueryClient, QueryClientProvider } from '@tanstack/react-query'
import { act, cleanup, fireEvent, render, screen } from '@testing-library/react'
import { afterEach, describe, expect, it, vi } from 'vitest'
import { me, type Me } from '../api/queries'
import { DayField } from './DayField'

afterEach(cleanup)

function shown(field: React.ReactElement) {
  const client = new QueryClient({ defaultOptions: { queries: { staleTime: Infinity } } })
  client.setQueryData(me.queryKey, { now: '2026-11-24T11:00:00+00:00', time_zone: 'Europe/Lisbon' } as Me)
  render(
    <QueryClientProvider client={client}>
      <form aria-label="Form">{field}</form>
    </QueryClientProvider>,
  )
  return screen.getByRole('textbox')
}

describe('a day', () => {
  it('is read as it is typed, and written in one format', () => {
    const onDay = vi.fn()
    const input = shown(<DayField aria-label="Last day" value="" onDay={onDay} />)
    fireEvent.change(input, { target: { value: '31 oct' } })
    expect(onDay).toHaveBeenLastCalledWith('2027-10-31')
  })

  it('that cannot be is none, and says what would be right', () => {
    const onDay = vi.fn()
    const input = shown(<DayField aria-label="Paid on" value="2026-11-20" max="2026-11-24" onDay={onDay} />)
    expect(input).toHaveProperty('value', '20 Nov 2026')
    for (const [typed, says] of [
      ['31 Novembr', 'Enter a day as 31 Oct 2026.'],
      ['25 Nov 2026', 'Enter 24 Nov 2026 or an earlier day.'],
    ] as const) {
      fireEvent.change(input, { target: { value: typed } })
      expect(screen.getByRole('alert').textContent).toBe(says)
      expect(onDay).toHaveBeenLastCalledWith('')
    }
  })

  it('where it says what is looked at leaves the day until another is whole', () => {
    const onDay = vi.fn()
    const input = shown(<DayField aria-label="As of" stands value="2026-10-31" onDay={onDay} />)
    fireEvent.change(input, { target: { value: '3' } })
    expect(onDay).not.toHaveBeenCalled()
    fireEvent.change(input, { target: { value: '3 Nov 2026' } })
    expect(onDay).toHaveBeenLastCalledWith('2026-11-03')
    fireEvent.change(input, { target: { value: '' } })
    expect(onDay).toHaveBeenLastCalledWith('')
  })

  it('that is fixed has no calendar to change it with', () => {
    shown(<DayField aria-label="From" name="first_day" defaultValue="2026-11-01" readOnly />)
    expect(screen.queryByRole('button')).toBeNull()
  })

  it('goes with its form under its name, and is gone when that is reset', () => {
    const input = shown(<DayField aria-label="Last day" name="last_day" />)
    fireEvent.change(input, { target: { value: '2027-01-31' } })
    fireEvent.blur(input)
    const form = screen.getByRole<HTMLFormElement>('form')
    expect(new FormData(form).get('last_day')).toBe('2027-01-31')
    expect(input).toHaveProperty('value', '31 Jan 2027')
    act(() => form.reset())
    expect(new FormData(form).get('last_day')).toBe('')
    expect(input).toHaveProperty('value', '')
  })
})
