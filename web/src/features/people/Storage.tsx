import { useQuery } from '@tanstack/react-query'
import { units } from '../../domain/units'
import { useAction } from '../../api/useAction'
import { Button, Form } from 'react-bootstrap'
import { api, take } from '../../api/client'
import { me, useCan } from '../../api/queries'
import type { PersonBody } from './queries'

const amount = (gb: string) => units(Math.round(Number(gb) * 1000), 1000)

/** How much of a limit is used, in words for a list. */
export function storageWords(each: PersonBody['storage'][number]): string {
  return each.limit === null ? `${amount(each.used)} GB` : `${amount(each.used)} of ${amount(each.limit)} GB`
}

function useChange() {
  const { run, said } = useAction('people', 'storage limits', 'allocations', 'accounts', 'log')
  return { change: (work: Promise<unknown>, done: string) => run(() => work.then(() => done)), said }
}

/** What the last change came to. */
function Said({ said }: Pick<ReturnType<typeof useAction>, 'said'>) {
  return (
    <>
      {said?.bad && (
        <p className="over small" role="alert">
          {said.text}
        </p>
      )}
      <p className="quiet small mb-1" role="status">
        {!said?.bad && said?.text}
      </p>
    </>
  )
}

const limitWords = (product: string, gb: string | null) =>
  gb === null ? `Limit of ${product} removed.` : `Limit of ${product} set to ${amount(gb)} GB.`

function Amount({ label, value, set }: { label: string; value: string | null; set: (amount: string | null) => void }) {
  const changes = useCan('layers.change')
  if (!changes) return value === null ? <span className="quiet">none</span> : <>{amount(value)}</>
  return (
    <Form
      className="d-flex gap-1"
      onSubmit={(event) => {
        event.preventDefault()
        set(((new FormData(event.currentTarget).get('amount') as string | null) ?? '').trim() || null)
      }}
    >
      <Form.Control
        key={value}
        name="amount"
        size="sm"
        aria-label={label}
        defaultValue={value ?? ''}
        inputMode="decimal"
        maxLength={20}
        style={{ width: 84 }}
        placeholder="none"
        className="text-end"
      />
      <Button type="submit" size="sm" variant="outline-primary">
        Set
      </Button>
    </Form>
  )
}

/** One person's storage: what is their own, how much may be, and which layer says so; their own limit is set here. */
export function StorageOf({ body }: { body: PersonBody }) {
  const { change, said } = useChange()
  const running = useQuery(me).data?.running
  const moves = running?.people_of === null && running.permissions.includes('seats.give')
  const path = { params: { path: { username: body.username } } }
  if (body.stored.length === 0 && body.stayed.length === 0) return null
  return (
    <section aria-label="Storage">
      <h2 className="sub">Personal storage</h2>
      <Said said={said} />
      <table className="ledger tight stored">
        <thead>
          <tr>
            <th>Product</th>
            <th className="fig">Used, GB</th>
            <th className="fig">Limit, GB</th>
            <th>From</th>
            <th>Their own limit, GB</th>
          </tr>
        </thead>
        <tbody>
          {body.stored.map((each) => (
            <tr key={each.product}>
              <td>{each.product_name}</td>
              <td className={`fig ${each.limit !== null && Number(each.used) > Number(each.limit) ? 'over' : ''}`}>
                {amount(each.used)}
              </td>
              <td className="fig">{each.limit === null ? <span className="quiet">none</span> : amount(each.limit)}</td>
              <td>{each.source}</td>
              <td>
                <Amount
                  label={`Own limit of ${each.product_name}`}
                  value={each.layer === 'direct' ? each.limit : null}
                  set={(value) =>
                    void change(
                      take(
                        api.PUT('/api/people/{username}/storage', {
                          ...path,
                          body: { product: each.product, amount: value },
                        }),
                      ),
                      limitWords(each.product_name, value),
                    )
                  }
                />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {body.stayed.map((each) => (
        <p className="mt-2 mb-0" key={`${each.account} ${each.product}`}>
          {amount(each.stored)} GB of {each.product_name} stayed with {each.account_name}, which is charged for them.{' '}
          {moves && (
            <button
              type="button"
              className="btn btn-link btn-sm p-0 align-baseline"
              onClick={() =>
                void change(
                  take(api.POST('/api/people/{username}/bytes', { ...path, body: { from_account: each.account } })),
                  `Moved to ${body.account_name}.`,
                )
              }
            >
              Move to {body.account_name}
            </button>
          )}
        </p>
      ))}
    </section>
  )
}

/** What an account, or one of its groups, lets one person store. */
export function StorageLimits({ account, group }: { account: string; group: string | null }) {
  const found = useQuery({
    queryKey: ['storage limits', account, group],
    queryFn: () =>
      take(api.GET('/api/storage-limits', { params: { query: group === null ? { account } : { account, group } } })),
  })
  const { change, said } = useChange()
  if (!found.data?.length) return null
  return (
    <section aria-label="Storage per person">
      <h2 className="sub">{group === null ? 'Default storage limit per person' : 'Group storage limit per person'}</h2>
      <p className="quiet small mb-1">
        {group === null
          ? 'In GB. A group’s or a person’s own limit overrides it; pool limits apply as well.'
          : 'In GB. The group with the highest precedence counts.'}
      </p>
      <Said said={said} />
      <table className="ledger tight">
        <tbody>
          {found.data.map((each) => (
            <tr key={each.product}>
              <td>{each.product_name}</td>
              <td className="text-end">
                <div className="d-inline-block">
                  <Amount
                    label={`Limit of ${each.product_name} per person, in GB`}
                    value={each.limit}
                    set={(value) =>
                      void change(
                        take(
                          api.PUT('/api/storage-limits', {
                            body: { account, group, product: each.product, amount: value },
                          }),
                        ),
                        limitWords(each.product_name, value),
                      )
                    }
                  />
                </div>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  )
}
