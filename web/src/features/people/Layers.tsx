import { useQueryClient } from '@tanstack/react-query'
import { api, take } from '../../api/client'
import { useAction } from '../../api/useAction'
import { useCan } from '../../api/queries'
import { dayName, dayOf } from '../../domain/months'
import { person as personQuery, type PersonBody } from './queries'

/** How products reach somebody: products and their components down, the layers across, the result last; each cell says why. */
export function Layers({ body }: { body: PersonBody }) {
  const queries = useQueryClient()
  const gives = useCan('seats.give')
  const { run, trouble } = useAction()
  const layers = [...new Set(body.layers.flatMap((each) => each.cells.map((cell) => cell.layer)))]
  const flip = async (product: string, component: string, on: boolean) => {
    await run(async () => {
      queries.setQueryData(
        personQuery(body.username).queryKey,
        await take(
          api.PUT('/api/people/{username}/components', {
            params: { path: { username: body.username } },
            body: { product, component, on },
          }),
        ),
      )
    })
  }
  if (body.layers.length === 0) return <p className="quiet">No entitlements.</p>
  const mark = (on: boolean, why: string) => (
    <span title={why} className={on ? undefined : 'quiet'}>
      {on ? '●' : '○'}
      <span className="visually-hidden"> {why}</span>
    </span>
  )
  return (
    <>
      <div style={{ overflowX: 'auto' }}>
        <table className="ledger tight layers">
          <thead>
            <tr>
              <th>Product, component</th>
              {layers.map((layer) => (
                <th key={layer}>{layer}</th>
              ))}
              <th>Direct</th>
              <th>Result</th>
            </tr>
          </thead>
          <tbody>
            {body.layers.map((each) => [
              <tr key={each.product} className="head">
                <th scope="row">{each.product_name}</th>
                {layers.map((layer) => (
                  <td key={layer}>
                    {each.cells.some((cell) => cell.layer === layer) ? mark(true, `${layer} gives it`) : ''}
                  </td>
                ))}
                <td>{each.direct ? mark(true, 'given by hand') : ''}</td>
                <td>
                  {each.has ? (
                    <b>has it</b>
                  ) : each.waits_since ? (
                    <span className="near">waits since {dayName(dayOf(each.waits_since))}</span>
                  ) : (
                    <span className="quiet">{each.instead ? `has ${each.instead} instead` : 'has it not'}</span>
                  )}
                </td>
              </tr>,
              ...each.components.map((component) => {
                const on = each.result.includes(component)
                const off = each.off.includes(component)
                const direct = off || each.switched_on.includes(component)
                const barredBy = each.barred[component]
                return (
                  <tr key={`${each.product} ${component}`}>
                    <th scope="row" className="ps-4 fw-normal">
                      {component}
                    </th>
                    {layers.map((layer) => {
                      const cell = each.cells.find((found) => found.layer === layer)
                      return (
                        <td key={layer}>
                          {cell &&
                            mark(
                              cell.components.includes(component),
                              cell.components.includes(component) ? `on by ${layer}` : `${layer} does not have it on`,
                            )}
                        </td>
                      )
                    })}
                    <td>
                      {each.mandatory.includes(component) ? (
                        <span className="quiet small">always on</span>
                      ) : !gives ? (
                        direct && <span className="quiet small">{off ? 'off' : 'on'}</span>
                      ) : (
                        <button
                          type="button"
                          className="btn btn-link btn-sm p-0"
                          aria-label={`${direct ? 'No longer switch' : 'Switch'} ${component} of ${each.product_name} ${(direct ? off : on) ? 'off' : 'on'}`}
                          onClick={() => void flip(each.product, component, direct ? off : !on)}
                        >
                          {direct ? `${off ? 'off' : 'on'} ×` : `switch ${on ? 'off' : 'on'}`}
                        </button>
                      )}
                    </td>
                    <td>
                      {on ? (
                        'on'
                      ) : (
                        <span className={off || barredBy ? 'over' : 'quiet'}>
                          {barredBy ? `barred by ${barredBy}` : off ? 'off, directly' : 'off'}
                        </span>
                      )}
                    </td>
                  </tr>
                )
              }),
            ])}
          </tbody>
        </table>
      </div>
      {trouble && (
        <p className="over small" role="alert">
          {trouble}
        </p>
      )}
    </>
  )
}
