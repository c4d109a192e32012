import { useContext, useEffect, useEffectEvent, useRef, useState, useSyncExternalStore } from 'react'
import { Modal } from 'react-bootstrap'
import { useRested } from '../components/useRested'
import { RegistryContext, written } from './registry'
import { useFound } from './useFound'

const MOST = 24
/** So long typing rests before the server is asked, in milliseconds. */
const REST = 120

const split = (words: string) => words.toLowerCase().split(/\s+/).filter(Boolean)

interface Hit {
  id: string
  /** Whether it leads somewhere else, where the focus goes too. */
  leaves: boolean
  name: string
  hint: string
  keys?: string
  run: () => void
}

/** Does something once no dialog is there any more, a frame later. */
function afterwards(run: () => void): void {
  requestAnimationFrame(() => {
    if (document.querySelector('.modal.show')) afterwards(run)
    else setTimeout(run, 30)
  })
}

/** `Ctrl K`: every command, and whatever goes by some words; and the keys' own listener. */
export function Palette({
  show,
  setShow,
  go,
}: {
  show: boolean
  setShow: (show: boolean) => void
  go: (to: string) => void
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
      if (command?.run) {
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
  const [leaves, setLeaves] = useState(false)
  const wanted = split(words)
  // Commands are here; everything else is asked for once typing rests.
  const rested = useRested(words, REST)
  const { places, settled } = useFound(split(rested), show)
  const [waits, setWaits] = useState(false)
  const doable: Hit[] = commands
    .filter((each) => each.run && wanted.every((word) => `${each.group} ${each.name}`.toLowerCase().includes(word)))
    .map((each) => ({
      id: each.id,
      name: each.name,
      hint: each.group,
      keys: each.keys,
      leaves: ['Go to', 'Do'].includes(each.group),
      run: each.run ?? (() => undefined),
    }))
  const hits: Hit[] = [...doable, ...places.map((each) => ({ ...each, leaves: true, run: () => go(each.to) }))].slice(
    0,
    MOST,
  )
  const ready = rested === words && settled
  const close = () => {
    setShow(false)
    setWords('')
    setAt(0)
    setWaits(false)
  }
  const choose = (hit: Hit | undefined) => {
    if (!hit) return
    setLeaves(hit.leaves)
    close()
    // What opens a dialog does so once this one is gone and has given the focus back.
    if (hit.leaves) hit.run()
    else afterwards(hit.run)
  }
  // Enter means what the words find, not what was there before they did.
  const arrived = useEffectEvent(() => {
    setWaits(false)
    choose(hits[at])
  })
  useEffect(() => {
    if (waits && ready) arrived()
  }, [waits, ready])
  return (
    <Modal
      show={show}
      onHide={close}
      onShow={() => setLeaves(false)}
      restoreFocus={!leaves}
      aria-label="Go anywhere"
      animation={false}
    >
      <Modal.Body className="p-2">
        <input
          className="form-control"
          placeholder="A screen, an action, an account, a person, an order…"
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
            setWaits(false)
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
              if (ready || at < doable.length) choose(hits[at])
              else setWaits(true)
            }
          }}
        />
        <ul className="hits" id="hits" role="listbox" aria-label="Results">
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
          {hits.length === 0 && <li className="quiet">No results. Try fewer words.</li>}
        </ul>
      </Modal.Body>
    </Modal>
  )
}

const order = (group: string) => (['Go to', 'Help'].includes(group) ? 1 : 0)

/** `?`: the keys of this screen, then those that work everywhere. */
export function Keys({ show, onHide }: { show: boolean; onHide: () => void }) {
  const registry = useContext(RegistryContext)
  const commands = useSyncExternalStore(registry.subscribe, registry.all).filter((each) => each.keys)
  // What is of this screen comes first.
  const groups = [...new Set(commands.map((each) => each.group))].sort((a, b) => order(a) - order(b))
  return (
    <Modal show={show} onHide={onHide} animation={false} aria-labelledby="keys-title">
      <Modal.Header closeButton>
        <Modal.Title as="h2" id="keys-title">
          Keys
        </Modal.Title>
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
