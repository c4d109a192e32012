import { createContext, useContext, useEffect, useMemo, useRef } from 'react'

/** A command as data: menu, shortcut and `Ctrl K` share it. */
export interface Command {
  id: string
  name: string
  /** Keys as people write them, like `g a` or `Ctrl Z`; none = only by name. */
  keys?: string
  group: string
  /** None = the keys are told here and heard by the screen itself. */
  run?: () => void
}

/** Keeps what can be done now; two commands with the same keys are refused. */
export class Registry {
  private readonly commands = new Map<string, Command>()
  private readonly listeners = new Set<() => void>()
  private snapshot: Command[] = []

  add(commands: Command[]): () => void {
    for (const command of commands) {
      const rival =
        command.keys && [...this.commands.values()].find((each) => each.keys === command.keys && each.id !== command.id)
      if (rival) throw new Error(`${command.keys ?? ''} is taken by ${rival.name}`)
      this.commands.set(command.id, command)
    }
    this.tell()
    return () => {
      for (const command of commands) this.commands.delete(command.id)
      this.tell()
    }
  }

  all = (): Command[] => this.snapshot

  subscribe = (listener: () => void): (() => void) => {
    this.listeners.add(listener)
    return () => this.listeners.delete(listener)
  }

  byKeys(keys: string): Command | undefined {
    return this.snapshot.find((each) => each.keys === keys)
  }

  startsWith(keys: string): boolean {
    return this.snapshot.some((each) => each.keys?.startsWith(`${keys} `))
  }

  private tell(): void {
    this.snapshot = [...this.commands.values()]
    for (const listener of this.listeners) listener()
  }
}

/** A key press as commands write it: `Ctrl Z`, `?`, `g`. */
export function written(event: { key: string; ctrlKey: boolean; metaKey: boolean }): string {
  const key = event.key.length === 1 && (event.ctrlKey || event.metaKey) ? event.key.toUpperCase() : event.key
  return event.ctrlKey || event.metaKey ? `Ctrl ${key}` : key
}

export const RegistryContext = createContext(new Registry())

/** Offer commands while a component is there. Give a list that stays the same between renders. */
export function useCommands(commands: Command[]): void {
  const registry = useContext(RegistryContext)
  useEffect(() => registry.add(commands), [registry, commands])
}

/** What can be done here now, found by its name with `Ctrl K` (and by keys, where it has some). */
export function useActs(group: string, acts: { id: string; name: string; keys?: string; run: () => void }[]): void {
  const latest = useRef(acts)
  useEffect(() => {
    latest.current = acts
  })
  const named = acts.map((each) => `${each.id}\t${each.name}\t${each.keys ?? ''}`).join('\n')
  const commands = useMemo<Command[]>(
    () =>
      named
        .split('\n')
        .filter(Boolean)
        .map((line) => {
          const [id = '', name = '', keys = ''] = line.split('\t')
          return {
            id,
            name,
            group,
            ...(keys ? { keys } : {}),
            run: () => latest.current.find((each) => each.id === id)?.run(),
          }
        }),
    [group, named],
  )
  useCommands(commands)
}
