import { MutationCache, useMutation, type QueryClient } from '@tanstack/react-query'
import { ApiError, messageOf } from './client'

declare module '@tanstack/react-query' {
  interface Register {
    mutationMeta: { changes?: string[] }
  }
}

/**
 * After an act everything with a key that begins with one of its `changes` is asked anew, even where the form that sent
 * it is closed by then; also where it was refused because things had changed meanwhile.
 */
export function askAnewAfterActs(queries: () => QueryClient): MutationCache {
  return new MutationCache({
    onSettled: (_done, error, _work, _context, mutation) => {
      if (error !== null && !(error instanceof ApiError && error.status === 409)) return
      for (const key of mutation.meta?.changes ?? []) void queries().invalidateQueries({ queryKey: [key] })
    },
  })
}

/** An act: whether it is under way, why it failed, what it said. `changes` names what is asked anew after it. */
export function useAction(...changes: string[]) {
  const { mutateAsync, isPending, error, data, reset } = useMutation<unknown, unknown, () => Promise<unknown>>({
    mutationFn: (work) => work(),
    meta: { changes },
  })
  const trouble = error === null ? '' : messageOf(error)
  return {
    /** Do it; true once it is done, false where it failed. */
    run: (work: () => Promise<unknown>): Promise<boolean> =>
      mutateAsync(work).then(
        () => true,
        () => false,
      ),
    busy: isPending,
    error,
    /** What to say of the failure; empty while there is none. */
    trouble,
    /** What came of it, where the act returned a sentence or failed. */
    said: trouble ? { text: trouble, bad: true } : typeof data === 'string' ? { text: data, bad: false } : null,
    /** Forget what came of it. */
    reset,
  }
}
