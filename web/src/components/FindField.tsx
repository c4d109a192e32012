import { useMemo, useRef } from 'react'
import { Form } from 'react-bootstrap'
import { useCommands, type Command } from '../commands/registry'

interface Props {
  /** What is found, as "Find a person". */
  label: string
  /** The group of keys that `?` lists it in. */
  group: string
  find: string
  onFind: (words: string) => void
  placeholder?: string
  width?: number
}

/** The box a list is searched with: `/` goes to it, Enter or the arrow down from it to what was found. */
export function FindField({ label, group, find, onFind, placeholder = 'Find  /', width = 170 }: Props) {
  const box = useRef<HTMLInputElement>(null)
  useCommands(
    useMemo<Command[]>(
      () => [{ id: `find ${group}`, name: label, keys: '/', group, run: () => box.current?.focus() }],
      [label, group],
    ),
  )
  return (
    <Form.Control
      ref={box}
      type="search"
      placeholder={placeholder}
      aria-label={label}
      style={{ width, flex: 'none' }}
      defaultValue={find}
      onChange={(event) => onFind(event.target.value)}
      onKeyDown={(event) => {
        if ((event.key !== 'Enter' || event.ctrlKey || event.metaKey) && event.key !== 'ArrowDown') return
        const list =
          document.querySelector<HTMLElement>('.pgrid, .poollist button') ??
          document.querySelector<HTMLElement>('.vtable [role="cell"] :is(a, button), .ledger tbody :is(a, button)')
        if (!list) return
        event.preventDefault()
        list.focus()
      }}
    />
  )
}
