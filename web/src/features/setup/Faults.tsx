import type { ComponentProps } from 'react'
import { ApiError } from '../../api/client'
import { FaultTable } from '../../components/FaultTable'
import { Trouble } from '../../components/States'

type Told = ComponentProps<typeof FaultTable>['faults']

/** What is wrong with an intake: each fault with its place. */
export function Faults({ error }: { error: unknown }) {
  const faults = error instanceof ApiError && Array.isArray(error.body.faults) ? (error.body.faults as Told) : []
  return (
    <>
      <Trouble error={error} />
      {faults.length > 0 && <FaultTable faults={faults} />}
    </>
  )
}
