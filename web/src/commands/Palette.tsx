import { useQuery } from '@tanstack/react-query'
import { useContext, useDeferredValue, useEffect, useRef, useState, useSyncExternalStore } from 'react'
import { Modal } from 'react-bootstrap'
import { accountsFound } from '../api/queries'
import { RegistryContext, written } from './registry'

interface Hit {
  id: string
  name: string
  hint: string
  keys?: string
  run: () => void
}

/** `Ctrl K`: every command and every account by name; and the keys' own listener. */
export function Palette({
  show,
  setShow,
  onAccount,
}: {
  show: boolean
  setShow: (show: boolean) => void
  onAccount: (code: string) => void
}) {
  const registry = useContext(RegistryContext)
  const commands = useSyncExternalStore(registry.subscribe, registry.all)
  const pending = useRef('')
  useEffect(() => {
    const listen = (event: KeyboardEvent) => {
      const target = event.target as HTMLElement
      const typing = target.matches('input, textarea, select, [contenteditable]')
      const keys = written(event)
      if (
        event.defaultPrevented ||
        event.altKey ||
        (typing && !event.ctrlKey && !event.metaKey) ||
        document.querySelector('.modal.show')
      )
        return
      const sequence = pending.current ? `${pending.current} ${keys}` : keys
      const command = registry.byKeys(sequence)
      pending.current = !command && registry.startsWith(sequence) ? sequence : ''
      if (command) {
        if (typing && ['Ctrl Z', 'Ctrl Y'].includes(keys)) return
        event.preventDefault()
        command.run()
      }
    }
    window.addEventListener('keydown', listen)
    return () => window.removeEventListener('keydown', listen)
  }, [registry])
  const [words, setWords] = useState('')
  const [at, setAt] = useState(0)
  const late = useDeferredValue(words)
  const accounts = useQuery({ ...accountsFound(late), enabled: show })
  const wanted = words.toLowerCase().split(/\s+/).filter(Boolean)
  const hits: Hit[] = [
    ...commands
      .filter((each) => wanted.every((word) => `${each.group} ${each.name}`.toLowerCase().includes(word)))
      .map((each) => ({ id: each.id, name: each.name, hint: each.group, keys: each.keys, run: each.run })),
    ...(accounts.data ?? []).map((each) => ({
      id: `account ${each.account}`,
      name: each.name,
      hint: each.under.length ? `in ${each.under.join(', ')}` : each.kind,
      run: () => onAccount(each.account),
    })),
  ].slice(0, 14)
  const close = () => {
    setShow(false)
    setWords('')
    setAt(0)
  }
  const choose = (hit: Hit | undefined) => {
    if (!hit) return
    close()
    hit.run()
  }
  return (
    <Modal show={show} onHide={close} aria-label="Go anywhere" animation={false}>
      <Modal.Body className="p-2">
        <input
          className="form-control"
          placeholder="A screen, something to do, or an account"
          aria-label="Go to"
          autoFocus
          value={words}
          role="combobox"
          aria-expanded="true"
          aria-controls="hits"
          aria-activedescendant={hits[at] ? `hit-${at}` : undefined}
          onChange={(event) => {
            setWords(event.target.value)
            setAt(0)
          }}
          onKeyDown={(event) => {
            if (event.key === 'ArrowDown') {
              event.preventDefault()
              setAt(Math.min(hits.length - 1, at + 1))
            }
            if (event.key === 'ArrowUp') {
              event.preventDefault()
              setAt(Math.max(0, at - 1))
            }
            if (event.key === 'Enter') {
              event.preventDefault()
              choose(hits[at])
            }
          }}
        />
        <ul className="hits" id="hits" role="listbox" aria-label="What was found">
          {hits.map((hit, place) => (
            // The keyboard goes through the field above, which owns this list.
            <li
              key={hit.id}
              id={`hit-${place}`}
              role="option"
              aria-selected={place === at}
              onMouseMove={() => setAt(place)}
              onClick={() => choose(hit)}
            >
              <span>
                {hit.name} <span className="quiet small">{hit.hint}</span>
              </span>
              {hit.keys && <kbd>{hit.keys}</kbd>}
            </li>
          ))}
          {hits.length === 0 && <li className="quiet">Nothing of that name.</li>}
        </ul>
      </Modal.Body>
    </Modal>
  )
}

/** `?`: the keys. */
export function Keys({ show, onHide }: { show: boolean; onHide: () => void }) {
  const registry = useContext(RegistryContext)
  const commands = useSyncExternalStore(registry.subscribe, registry.all).filter((each) => each.keys)
  const groups = [...new Set(commands.map((each) => each.group))]
  return (
    <Modal show={show} onHide={onHide} animation={false} aria-labelledby="keys-title">
      <Modal.Header closeButton>
        <Modal.Title id="keys-title">Keys</Modal.Title>
      </Modal.Header>
      <Modal.Body>
        {groups.map((group) => (
          <section key={group}>
            <h3>{group}</h3>
            <dl className="keys">
              {commands
                .filter((each) => each.group === group)
                .map((each) => (
                  <div key={each.id}>
                    <dt>{each.name}</dt>
                    <dd>
                      <kbd>{each.keys}</kbd>
                    </dd>
                  </div>
                ))}
            </dl>
          </section>
        ))}
      </Modal.Body>
    </Modal>
  )
}
