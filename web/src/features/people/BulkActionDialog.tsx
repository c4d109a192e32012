import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form, Modal } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { AccountSelect } from '../../components/AccountSelect'
import { AskInstead } from '../../components/AskInstead'
import { productsInSight, useCan } from '../../api/queries'
import { unitName } from '../../domain/units'
import { Wait } from '../../components/States'
import { useFocusWhenReady } from '../../components/useFocusWhenReady'
import { useRested } from '../../components/useRested'
import { isWhole, LeavingChoice } from './LeavingChoice'
import { plain } from './peopleFilter'
import { seatProducts, type Outcome } from './queries'
import { CHANGES, sendBulkAction, type BulkAction, type ChosenPeople } from './sendBulkAction'

/** One action with everybody chosen: what it needs to know, what it would do, and what it did. */
export function BulkActionDialog({
  action,
  needs,
  word,
  title,
  who,
  count,
  whom,
  close,
  done,
}: {
  action: BulkAction
  needs: string[]
  word: string
  title: string
  who: ChosenPeople
  count: number
  whom: string
  close: () => void
  done: () => void
}) {
  const inSight = useQuery(productsInSight).data ?? []
  const [chosen, setChosen] = useState({ product: '', to_product: '', to_account: '' })
  const [keep, setKeep] = useState(true)
  const [leaving, setLeaving] = useState<Schemas['LeavingBody']>({ what: 'keep', to: null, days: 30 })
  const leave = useRested(leaving, 250)
  const mayChoose = useCan('layers.change')
  const leaves = mayChoose && (action === 'move' || action === 'remove')
  const [result, setResult] = useState<Outcome | null>(null)
  const { run, busy, trouble } = useAction(...CHANGES)
  const [mapped, setMapped] = useState<Record<string, string>>({})
  const kinds = useQuery({ ...seatProducts, enabled: action === 'swap' }).data ?? []
  const [from, to] = [
    kinds.find((each) => each.code === chosen.product),
    kinds.find((each) => each.code === chosen.to_product),
  ]
  const body = {
    act: action,
    people: { find: '', ...plain(who) },
    product: chosen.product || null,
    to_product: chosen.to_product || null,
    to_account: chosen.to_account || null,
    keep_seats: keep,
    components: from && to ? written(mapped, from, to) : null,
    leaving: leave,
  }
  const ready = isWhole(leave) && needs.every((each) => each === 'keep_seats' || chosen[each as keyof typeof chosen])
  const looked = useQuery({
    queryKey: ['people', 'preview', body],
    queryFn: () => take(api.POST('/api/people/preview', { body })),
    enabled: ready && !result,
    retry: false,
    gcTime: 0,
  })
  const act = async () => {
    await run(async () => {
      setResult(await take(sendBulkAction(body)))
    })
  }
  const able = !busy && leaving === leave && Boolean(looked.data?.done)
  const main = useFocusWhenReady(able)
  const closes = useFocusWhenReady(result !== null)
  const seats = inSight.filter((each) => each.measure === 'seat')
  const pick = (name: keyof typeof chosen, value: string) => {
    const successor =
      name === 'product' && action === 'swap' ? kinds.find((each) => each.code === value)?.successor : null
    setChosen((now) => ({ ...now, [name]: value, ...(successor && !now.to_product ? { to_product: successor } : {}) }))
  }
  const choose = (name: keyof typeof chosen, label: string, options: [string, string][]) => (
    <Form.Group controlId={`act-${name}`}>
      <Form.Label>{label}</Form.Label>
      <Form.Select
        value={chosen[name]}
        autoFocus={name === needs[0]}
        onChange={(event) => pick(name, event.target.value)}
      >
        <option value="">choose…</option>
        {options.map(([key, says]) => (
          <option key={key} value={key}>
            {says}
          </option>
        ))}
      </Form.Select>
    </Form.Group>
  )
  const products = seats.map((pool): [string, string] => [pool.product, pool.name])
  const found = result ?? looked.data
  return (
    <Modal
      show
      onHide={() => {
        close()
        if (result) done()
      }}
      animation={false}
      size="lg"
      aria-labelledby="act-title"
      scrollable
    >
      <Modal.Header closeButton>
        <Modal.Title as="h2" id="act-title">
          {title.replace('…', '')}: {whom}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        {!result && (
          <div className="lotform mb-2">
            {needs.includes('product') && choose('product', action === 'swap' ? 'From' : 'Product', products)}
            {needs.includes('to_product') &&
              choose(
                'to_product',
                'To',
                products.filter(([code]) => code !== chosen.product),
              )}
            {needs.includes('to_account') && (
              <Form.Group controlId="act-to_account">
                <Form.Label>To account</Form.Label>
                <AccountSelect
                  value={chosen.to_account}
                  any="choose…"
                  autoFocus={needs[0] === 'to_account'}
                  onChange={(account) => pick('to_account', account)}
                  only={(each) => each.status === 'active'}
                />
              </Form.Group>
            )}
            {leaves && <LeavingChoice moves={action === 'move'} chosen={leaving} choose={setLeaving} />}
            {needs.includes('keep_seats') && (
              <Form.Check
                id="act-keep"
                label="Keep their seats"
                checked={keep}
                onChange={(event) => setKeep(event.target.checked)}
              />
            )}
          </div>
        )}
        {!result && from && to && from.components.length > 0 && (
          <table className="ledger tight mb-2" aria-label="Components">
            <thead>
              <tr>
                <th>{from.name}</th>
                <th>becomes in {to.name}</th>
              </tr>
            </thead>
            <tbody>
              {from.components.map((part) => (
                <tr key={part.code}>
                  <td>{part.code}</td>
                  <td>
                    <Form.Select
                      size="sm"
                      aria-label={`${part.code} becomes`}
                      value={
                        mapped[part.code] ?? (to.components.some((each) => each.code === part.code) ? part.code : '')
                      }
                      onChange={(event) => setMapped((now) => ({ ...now, [part.code]: event.target.value }))}
                    >
                      <option value="">nothing: it does not fit</option>
                      {to.components.map((each) => (
                        <option key={each.code} value={each.code}>
                          {each.code}
                        </option>
                      ))}
                    </Form.Select>
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
        {action === 'move' && (
          <p className="quiet small">Their seats are counted and charged in the new account from now on.</p>
        )}
        {action === 'revoke invitation' && (
          <p className="quiet small">
            The link in the mail stops working. They stay in the list and can be invited again.
          </p>
        )}
        {action === 'reserve' && (
          <p className="quiet small">One seat is held for each person until it is assigned to them.</p>
        )}
        {action === 'remove' && (
          <p className="quiet small">
            Their seats and sessions are released; devices and numbers stay with the account, as nobody’s. They can be
            restored for 30 days, without their seats; their history stays.
          </p>
        )}
        {action === 'suspend' && !keep && (
          <p className="quiet small">
            Their seats are released, and given again when they are resumed, as far as there is room.
          </p>
        )}
        {looked.isError && (
          <p className="over" role="alert">
            {looked.error.message}
          </p>
        )}
        {looked.isError && !result && (
          <AskInstead
            error={looked.error}
            name={`${title.replace('…', '')} ${seats.find((each) => each.product === (chosen.to_product || chosen.product))?.name ?? ''}: ${count} people`}
          />
        )}
        {ready && !found && !looked.isError && <Wait what="what it would do" />}
        {found && <OutcomeView found={found} word={word} happened={result !== null} left={leaves ? said(leave) : ''} />}
        {trouble && (
          <p className="over mt-2" role="alert">
            {trouble}
          </p>
        )}
      </Modal.Body>
      <Modal.Footer>
        {result ? (
          <Button
            onClick={() => {
              close()
              done()
            }}
            ref={closes}
          >
            Close
          </Button>
        ) : (
          <>
            <Button variant="outline-primary" onClick={close}>
              Cancel
            </Button>
            <Button ref={main} disabled={!able} onClick={() => void act()}>
              {busy ? 'Working…' : `${title.replace('…', '')} ${looked.data?.done ?? 0} of ${count}`}
            </Button>
          </>
        )}
      </Modal.Footer>
    </Modal>
  )
}

/** What is chosen for components that are there, as the server is asked. */
function written(
  mapped: Record<string, string>,
  from: Schemas['SeatProduct'],
  to: Schemas['SeatProduct'],
): Record<string, string | null> {
  const has = (product: Schemas['SeatProduct'], code: string) => product.components.some((each) => each.code === code)
  return Object.fromEntries(
    Object.entries(mapped)
      .filter(([part, becomes]) => has(from, part) && (!becomes || has(to, becomes)))
      .map(([part, becomes]) => [part, becomes || null]),
  )
}

/** What was chosen for what they store, in words. */
function said(leave: Schemas['LeavingBody']): string {
  switch (leave.what) {
    case 'take':
      return 'it goes with them'
    case 'person':
    case 'folder':
      return `it moves to ${leave.to}`
    case 'delete':
      return `it is deleted after ${leave.days} days, unless it is kept before`
    default:
      return 'it stays with the account'
  }
}

function OutcomeView({
  found,
  word,
  happened,
  left,
}: {
  found: Outcome
  word: string
  happened: boolean
  /** What becomes of what they store. */
  left: string
}) {
  const reasons = new Map<string, string[]>()
  for (const each of found.could_not) reasons.set(each.why, [...(reasons.get(each.why) ?? []), each.name])
  return (
    <>
      <p className="mb-2" role="status">
        <b>{found.done}</b> {happened ? (found.done === 1 ? 'was' : 'were') : 'would be'} {word}
        {found.released > 0 && `; ${found.released} ${found.released === 1 ? 'seat' : 'seats'} released`}
        {found.run_no_more > 0 &&
          `; ${found.run_no_more} ${found.run_no_more === 1 ? 'delegation ends' : 'delegations end'}`}
        {found.could_not.length > 0 && (
          <>
            , <b className="over">{found.could_not.length}</b> not
          </>
        )}
        .
      </p>
      {found.seats.length > 0 && (
        <table className="ledger tight mb-2" aria-label="Seats">
          <thead>
            <tr>
              <th>Account</th>
              <th>Product</th>
              <th className="fig">Needed</th>
              <th className="fig">Given</th>
              <th className="fig">Free after</th>
            </tr>
          </thead>
          <tbody>
            {found.seats.map((each) => (
              <tr key={`${each.account} ${each.product}`}>
                <td>{each.account_name}</td>
                <td>
                  {each.product_name} <span className="quiet small">{unitName(each.unit, 2)}</span>
                </td>
                <td className="fig">{each.needed}</td>
                <td className={each.given < each.needed ? 'fig over' : 'fig'}>{each.given}</td>
                <td className="fig">
                  {each.given < each.needed && each.left !== 0 ? 'not available now' : (each.left ?? 'no limit')}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {found.stored.length > 0 && (
        <p className="mb-2">
          They {happened ? 'stored' : 'store'}{' '}
          {found.stored
            .map(
              (each) =>
                `${each.size} of ${each.product_name} (${each.people} ${each.people === 1 ? 'person' : 'people'})`,
            )
            .join(', ')}
          {left && `; ${left}`}.
        </p>
      )}
      {found.lost.length > 0 && (
        <p className="near">
          Does not fit:{' '}
          {found.lost
            .map((each) => `${each.component} (${each.people} ${each.people === 1 ? 'person' : 'people'})`)
            .join(', ')}
          .
        </p>
      )}
      {reasons.size > 0 && (
        <table className="ledger tight" aria-label="Could not be done">
          <thead>
            <tr>
              <th>Why not</th>
              <th className="fig">People</th>
              <th>Who</th>
            </tr>
          </thead>
          <tbody>
            {[...reasons].slice(0, 40).map(([why, people]) => (
              <tr key={why}>
                <td>{why}</td>
                <td className="fig">{people.length}</td>
                <td className="quiet small">
                  {people.slice(0, 6).join(', ')}
                  {people.length > 6 && ` and ${people.length - 6} more`}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  )
}
