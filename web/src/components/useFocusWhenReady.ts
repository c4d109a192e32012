import { useEffect, useRef } from 'react'

/** Give a dialog's main button the focus once it can be pressed, unless something in the dialog has it by then. */
export function useFocusWhenReady(ready: boolean): React.RefObject<HTMLButtonElement | null> {
  const button = useRef<HTMLButtonElement>(null)
  useEffect(() => {
    if (ready && document.activeElement?.matches('.modal, body')) button.current?.focus()
  }, [ready])
  return button
}
