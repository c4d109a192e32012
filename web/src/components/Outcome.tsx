import { createContext, useCallback, useContext, useMemo, useState } from 'react'

interface Way {
  label: string
  run: () => void
}

interface Said {
  text: string
  back?: Way | undefined
}

const Outcomes = createContext<(text: string, back?: Way) => void>(() => undefined)

/** Say what an act did, to how many, with the way to undo it where there is one. */
export function useOutcome(): (text: string, back?: Way) => void {
  return useContext(Outcomes)
}

/** Holds the line that says what the last act did, until the next one or until it is closed. */
export function OutcomeProvider({ children }: { children: React.ReactNode }) {
  const [said, setSaid] = useState<Said | null>(null)
  const [number, setNumber] = useState(0)
  const say = useCallback((text: string, back?: Way) => {
    setSaid({ text, back })
    setNumber((now) => now + 1)
  }, [])
  const close = () => setSaid(null)
  return (
    <Outcomes value={say}>
      {children}
      <div className={said ? 'outcome' : 'visually-hidden'} role="status" aria-label="Last action">
        {said && <Line said={said} close={close} key={number} />}
      </div>
    </Outcomes>
  )
}

function Line({ said, close }: { said: Said; close: () => void }) {
  const back = useMemo(() => said.back, [said])
  return (
    <>
      <span>{said.text}</span>
      {back && (
        <button
          type="button"
          className="btn btn-link btn-sm"
          onClick={() => {
            close()
            back.run()
          }}
        >
          {back.label}
        </button>
      )}
      <button type="button" className="btn-close" aria-label="Dismiss" onClick={close} />
    </>
  )
}
