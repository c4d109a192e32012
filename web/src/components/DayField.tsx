import { lazy, Suspense, useEffect, useRef, useState } from 'react'
import { Dropdown, Form } from 'react-bootstrap'
import { useQuery } from '@tanstack/react-query'
import { me } from '../api/queries'
import { dayIn, dayName, dayOf } from '../domain/months'

const Calendar = lazy(() => import('./Calendar'))

interface Props {
  /** The day, YYYY-MM-DD; empty for none. Without it the field keeps what is entered, under its `name`. */
  value?: string
  defaultValue?: string
  /** Called with a day or, where the text names none, with nothing. */
  onDay?: (day: string) => void
  /** While the text names no day, the one before stands: for what is looked at, not for a form. */
  stands?: boolean
  name?: string
  id?: string
  /** First and last day that can be entered. */
  min?: string
  max?: string
  /** What a day without a year means: the next one, or the last one. */
  means?: 'next' | 'last'
  required?: boolean
  readOnly?: boolean
  'aria-label'?: string
  placeholder?: string
  autoFocus?: boolean
  isInvalid?: boolean
  /** Marked as other than it was. */
  changed?: boolean
  'aria-describedby'?: string
}

/** A day, typed as "31 Oct", "31 Oct 2026" or "2026-10-31", or chosen in a calendar; one format whatever the browser. */
export function DayField({
  value,
  defaultValue = '',
  onDay,
  name,
  min,
  max,
  means = 'next',
  stands = false,
  changed = false,
  ...more
}: Props) {
  const now = useQuery(me).data?.now
  const today = now ? dayOf(now) : ''
  const [kept, keep] = useState(defaultValue)
  const [typed, type] = useState<string | null>(null)
  const [open, setOpen] = useState(false)
  const input = useRef<HTMLInputElement>(null)
  const day = value ?? kept
  useEffect(() => {
    const form = input.current?.form
    const clear = () => {
      keep(defaultValue)
      type(null)
      input.current?.setCustomValidity('')
    }
    form?.addEventListener('reset', clear)
    return () => form?.removeEventListener('reset', clear)
  }, [defaultValue])
  const wrongWith = (words: string, found: string | null) =>
    !words.trim()
      ? ''
      : !found
        ? 'Enter a day as 31 Oct 2026.'
        : min && found < min
          ? `Enter ${dayName(min)} or a later day.`
          : max && found > max
            ? `Enter ${dayName(max)} or an earlier day.`
            : ''
  const put = (found: string) => {
    keep(found)
    if (found !== day) onDay?.(found)
  }
  const enter = (words: string) => {
    const found = dayIn(words.trim(), today, means)
    const wrong = wrongWith(words, found)
    input.current?.setCustomValidity(wrong)
    type(words)
    if (!(wrong && stands)) put(wrong || !found ? '' : found)
  }
  const wrong = typed === null ? '' : wrongWith(typed, dayIn(typed.trim(), today, means))
  return (
    <div className="dayfield">
      <Form.Control
        placeholder="e.g. 31 Oct"
        {...more}
        ref={input}
        className={changed ? 'changed' : undefined}
        autoComplete="off"
        isInvalid={(more.isInvalid ?? false) || wrong !== ''}
        value={typed ?? (day ? dayName(day) : '')}
        onChange={(event) => enter(event.target.value)}
        onKeyDown={(event) => {
          if (event.altKey && event.key === 'ArrowDown' && !more.readOnly) setOpen(true)
        }}
        onBlur={() => {
          if (!wrong) type(null)
        }}
      />
      {wrong && (
        <span className="dayfield-wrong over small" role="alert">
          {wrong}
        </span>
      )}
      {name && <input type="hidden" name={name} value={day} />}
      {!more.readOnly && (
        <Dropdown show={open} onToggle={setOpen} align="end">
          <Dropdown.Toggle
            variant="link"
            tabIndex={-1}
            aria-label="Calendar"
            title="Calendar"
            className="dayfield-open"
          >
            <svg viewBox="0 0 16 16" width="14" height="14" aria-hidden="true">
              <path
                d="M2 4h12v10H2zM2 7h12M5 2v3M11 2v3"
                fill="none"
                stroke="currentColor"
                strokeWidth="1.3"
                strokeLinecap="round"
              />
            </svg>
          </Dropdown.Toggle>
          <Dropdown.Menu popperConfig={{ strategy: 'fixed' }} className="p-2">
            {open && (
              <Suspense fallback={<span className="quiet small">Loading…</span>}>
                <Calendar
                  day={day || today}
                  today={today}
                  min={min}
                  max={max}
                  choose={(chosen) => {
                    input.current?.setCustomValidity('')
                    type(null)
                    put(chosen)
                    setOpen(false)
                    input.current?.focus()
                  }}
                />
              </Suspense>
            )}
          </Dropdown.Menu>
        </Dropdown>
      )}
    </div>
  )
}
