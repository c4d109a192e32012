import { useEffect, useRef, useState } from 'react'
import { Button } from 'react-bootstrap'

interface Props {
  /** What is done, as "Withdraw". */
  act: string
  /** To what; read along with it. */
  of: string
  /** What that means, in a few words, before it is done. */
  means: string
  run: () => void
  /** Whether it stands as words in a line, not as a button. */
  inLine?: boolean
}

/** An act that cannot be taken back: it says what it means and asks once more in its own place. */
export function Sure({ act, of, means, run, inLine = false }: Props) {
  const [asked, setAsked] = useState(false)
  const first = useRef<HTMLButtonElement>(null)
  const again = useRef<HTMLButtonElement>(null)
  useEffect(() => again.current?.focus(), [asked])
  const back = () => {
    setAsked(false)
    setTimeout(() => first.current?.focus())
  }
  const look = inLine ? { variant: 'link', className: 'p-0' } : { variant: 'outline-primary' }
  if (!asked)
    return (
      <Button ref={first} size="sm" {...look} aria-label={`${act}… ${of}`.trim()} onClick={() => setAsked(true)}>
        {act}…
      </Button>
    )
  return (
    <span
      className="d-inline-flex gap-2 align-items-center text-nowrap"
      role="group"
      aria-label={`${act} ${of}`.trim()}
      onKeyDown={(event) => {
        if (event.key !== 'Escape') return
        event.stopPropagation()
        back()
      }}
    >
      <span className="small">{means}</span>
      <Button
        ref={again}
        size="sm"
        {...look}
        onClick={() => {
          setAsked(false)
          run()
        }}
      >
        {act}
      </Button>
      <Button size="sm" variant="link" className="p-0" onClick={back}>
        Cancel
      </Button>
    </span>
  )
}
