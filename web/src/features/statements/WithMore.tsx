import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Form } from 'react-bootstrap'
import { api, take } from '../../api/client'
import type { Line } from '../../api/queries'
import { useRested } from '../../components/useRested'
import { signed } from '../../domain/money'
import { unitName } from '../../domain/units'

/** A few, and fewer; of what is measured in GB by the hundred. */
const STEPS = { storage: [100, -100], other: [1, -10] } as const

/** What one more unit, ten fewer, or as many as are typed would do to this bill. */
export function WithMore({
  buyer,
  month,
  line,
  closed,
}: {
  buyer: string
  month: string
  line: Line
  /** The bill is written, and stays as it is. */
  closed: boolean
}) {
  const steps = STEPS[line.measure === 'storage' ? 'storage' : 'other']
  const [typed, setTyped] = useState(String(steps[0] * 20))
  const isNumber = /^[-−+]?\d{1,6}$/.test(typed.trim())
  const own = useRested(isNumber ? Number(typed.trim().replace('−', '-')) : 0, 200)
  const asked = [...steps, own]
  const found = useQuery({
    queryKey: ['statements', month, buyer, 'more', line.product, own],
    queryFn: () =>
      take(
        api.GET('/api/statements/{buyer}/{product}/more', {
          params: { path: { buyer, product: line.product }, query: { month, units: asked } },
        }),
      ),
    placeholderData: keepPreviousData,
    staleTime: 60_000,
  }).data
  if (!found || found.length === 0) return null
  const said = `What more or fewer would ${closed ? 'have done' : 'do'} to this bill`
  const of = (place: number) => found[place]
  const unit = (count: number) => unitName(line.unit, Math.abs(count))
  return (
    <>
      <h2 className="sub mt-3">
        {said}, {line.currency}
      </h2>
      <table className="parts" aria-label={said}>
        <thead>
          <tr>
            <th>In use every day</th>
            <th className="fig">Before tax</th>
            <th className="fig">With tax</th>
          </tr>
        </thead>
        <tbody>
          {steps.map((count, place) => (
            <tr key={count}>
              <td>
                {Math.abs(count)} {unit(count)} {count < 0 ? 'fewer' : 'more'}
              </td>
              <td className="fig">{signed(of(place)?.line ?? '0')}</td>
              <td className="fig">{signed(of(place)?.total ?? '0')}</td>
            </tr>
          ))}
          <tr>
            <td className="text-nowrap">
              <Form.Control
                size="sm"
                className="morefield"
                aria-label={`How many ${unitName(line.unit, 2)} more, or with a minus fewer`}
                inputMode="numeric"
                value={typed}
                isInvalid={!isNumber}
                onChange={(event) => setTyped(event.target.value)}
              />{' '}
              {unit(own)} more
            </td>
            <td className="fig">{isNumber ? signed(of(2)?.line ?? '0') : '–'}</td>
            <td className="fig">{isNumber ? signed(of(2)?.total ?? '0') : '–'}</td>
          </tr>
        </tbody>
      </table>
    </>
  )
}
