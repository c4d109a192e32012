import { useSyncExternalStore } from 'react'

const query = '(max-width: 600px)'

function subscribe(tell: () => void): () => void {
  const media = matchMedia(query)
  media.addEventListener('change', tell)
  return () => media.removeEventListener('change', tell)
}

/** Whether the window is as narrow as a phone: what is seldom wanted folds away. */
export function useNarrow(): boolean {
  return useSyncExternalStore(subscribe, () => matchMedia(query).matches)
}
