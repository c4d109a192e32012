const AUTOMATIC: Record<string, string> = {
  schedule: 'Fair Ladle',
  rules: 'Entitlements',
  'command line': 'Command line',
}

/** Who acted; what acts by itself by the name that people know it under. */
export const actorName = (actor: string) => AUTOMATIC[actor] ?? actor
