import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { useRested } from '../../components/useRested'
import { minus, money, signed, sum } from '../../domain/money'
import { dayName } from '../../domain/months'
import { besides } from '../../domain/prices'
import { unitName } from '../../domain/units'
import { useDraft } from '../drafts/context'
import { cardWords, changeOf, typedOf, wrongIn, type Card, type Typed } from './card'
import { CopyCard } from './CopyCard'
import { Steps } from './Steps'
import { DayField } from '../../components/DayField'

type Prices = Schemas['PricesBody']

/** The card of a product for one buyer or for all: its versions, another one from a day on, and what that would do. */
export function CardPanel({
  prices,
  product,
  buyer,
  begins,
  changes,
  close,
}: {
  prices: Prices
  product: Schemas['PricedProduct']
  /** Null = the general card. */
  buyer: Schemas['PriceBuyer'] | null
  /** The day proposed for a new version. */
  begins: string
  changes: boolean
  close: () => void
}) {
  const versions = useQuery({
    queryKey: ['statements', 'prices', prices.seller, product.product, buyer?.buyer ?? ''],
    queryFn: () =>
      take(
        api.GET('/api/prices/of/{seller}/{product}', {
          params: {
            path: { seller: prices.seller, product: product.product },
            query: buyer ? { buyer: buyer.buyer } : {},
          },
        }),
      ),
  }).data
  const general = prices.cards.find((each) => each.product === product.product)
  return (
    <aside className="drawer wide" role="region" aria-label="Price" tabIndex={0}>
      <div className="d-flex align-items-baseline gap-2">
        <h2 className="m-0">{product.name}</h2>
        <span className="quiet">{buyer ? `for ${buyer.name}` : 'for all buyers'}</span>
        <span className="grow" />
        <button type="button" className="btn-close" aria-label="Close" onClick={close} />
      </div>
      {!product.drawn && (
        <p className="small mb-1">
          There is no pool of {product.name} for your buyers to draw from, so nobody is charged for it.
        </p>
      )}
      {versions && versions.length === 0 && (
        <p className="quiet small mb-1">
          {buyer
            ? general
              ? `No price of its own; the general one applies: ${cardWords(general)} ${general.currency}.`
              : 'No price yet: it is charged nothing.'
            : 'No price yet: nobody is charged for it.'}
        </p>
      )}
      {versions && versions.length > 0 && (
        <table className="ledger tight">
          <thead>
            <tr>
              <th>From</th>
              <th>Price, {versions[0]?.currency}</th>
            </tr>
          </thead>
          <tbody>
            {versions.map((each) => (
              <tr key={each.first_day}>
                <td className="text-nowrap">{dayName(each.first_day)}</td>
                <td>
                  {cardWords(each)} <span className="quiet small">{besides(each)}</span>
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      {changes && versions && (
        <Editor
          key={`${product.product} ${buyer?.buyer ?? ''}`}
          prices={prices}
          product={product}
          buyer={buyer}
          versions={versions}
          begun={versions[0] ?? general}
          begins={begins}
        />
      )}
      {changes && versions?.[0] && !versions[0].is_markup && buyer === null && (
        <CopyCard prices={prices} card={versions[0]} begins={begins} />
      )}
    </aside>
  )
}

function Editor({
  prices,
  product,
  buyer,
  versions,
  begun,
  begins,
}: {
  prices: Prices
  product: Schemas['PricedProduct']
  buyer: Schemas['PriceBuyer'] | null
  versions: Card[]
  begun: Card | undefined
  begins: string
}) {
  const draft = useDraft()
  const [typed, setTyped] = useState<Typed>(() => typedOf(begun, begins, prices.currency))
  const [added, setAdded] = useState(false)
  const wrong = wrongIn(typed)
  const set = (part: Partial<Typed>) => {
    setTyped((now) => ({ ...now, ...part }))
    setAdded(false)
  }
  const was = versions.find((each) => each.first_day === typed.first_day)
  const change = wrong.size === 0 ? changeOf(typed, prices.seller, buyer?.buyer ?? null, product.product, was) : null
  const field = (name: keyof Typed, label: string) => (
    <Form.Group controlId={`card-${name}`}>
      <Form.Label>{label}</Form.Label>
      <Form.Control
        value={typed[name] as string}
        isInvalid={wrong.has(name)}
        aria-describedby={wrong.has(name) ? 'card-wrong' : undefined}
        inputMode={name === 'currency' ? undefined : 'decimal'}
        onChange={(event) => set({ [name]: event.target.value })}
      />
    </Form.Group>
  )
  const tier = (place: number, name: 'from_quantity' | 'unit_price', value: string) =>
    set({ tiers: typed.tiers.map((each, at) => (at === place ? { ...each, [name]: value } : each)) })
  return (
    <Form
      className="mt-3"
      aria-label="New price"
      onSubmit={(event) => {
        event.preventDefault()
        if (!change) return
        draft.set([change])
        setAdded(true)
      }}
    >
      <h3 className="sub">A new price</h3>
      <div className="cardfields">
        <Form.Group controlId="card-first_day">
          <Form.Label>From</Form.Label>
          <DayField
            value={typed.first_day}
            isInvalid={wrong.has('first_day')}
            onDay={(first_day) => set({ first_day })}
          />
        </Form.Group>
        {field('currency', 'Currency')}
        <Form.Group controlId="card-basis">
          <Form.Label>Charged for</Form.Label>
          <Form.Select value={typed.basis} onChange={(event) => set({ basis: event.target.value as Typed['basis'] })}>
            <option value="used">what is used</option>
            <option value="held">what is held</option>
            <option value="reserved">what is reserved</option>
          </Form.Select>
        </Form.Group>
        <Form.Group controlId="card-aggregate">
          <Form.Label>Of the month</Form.Label>
          <Form.Select
            value={typed.aggregate}
            onChange={(event) => set({ aggregate: event.target.value as Typed['aggregate'] })}
          >
            <option value="average">the average</option>
            <option value="peak">the highest day</option>
            <option value="p95">the 95th percentile</option>
          </Form.Select>
        </Form.Group>
        <Form.Group controlId="card-mode" className={typed.mode === 'markup' ? undefined : 'two'}>
          <Form.Label>Priced</Form.Label>
          <Form.Select value={typed.mode} onChange={(event) => set({ mode: event.target.value as Typed['mode'] })}>
            <option value="graduated">each step at its own price</option>
            <option value="volume">all at the step reached</option>
            <option value="markup">at a markup on its cost</option>
          </Form.Select>
        </Form.Group>
        {typed.mode === 'markup' && field('markup', 'Markup, %')}
      </div>
      {typed.mode !== 'markup' && (
        <>
          <table className="tiers">
            <thead>
              <tr>
                <th>From, {unitName(product.unit, 2)}</th>
                <th>Unit price</th>
                <td />
              </tr>
            </thead>
            <tbody>
              {typed.tiers.map((each, place) => (
                <tr key={place}>
                  <td>
                    <Form.Control
                      size="sm"
                      aria-label={`Step ${place + 1} from`}
                      inputMode="decimal"
                      value={each.from_quantity}
                      disabled={place === 0}
                      isInvalid={wrong.has(`from ${place}`)}
                      aria-describedby={wrong.has(`from ${place}`) ? 'card-wrong' : undefined}
                      onChange={(event) => tier(place, 'from_quantity', event.target.value)}
                    />
                  </td>
                  <td>
                    <Form.Control
                      size="sm"
                      aria-label={`Unit price of step ${place + 1}`}
                      inputMode="decimal"
                      value={each.unit_price}
                      isInvalid={wrong.has(`price ${place}`)}
                      aria-describedby={wrong.has(`price ${place}`) ? 'card-wrong' : undefined}
                      onChange={(event) => tier(place, 'unit_price', event.target.value)}
                    />
                  </td>
                  <td>
                    {place > 0 && (
                      <Button
                        size="sm"
                        variant="link"
                        aria-label={`Remove step ${place + 1}`}
                        onClick={() => set({ tiers: typed.tiers.filter((_, at) => at !== place) })}
                      >
                        ×
                      </Button>
                    )}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
          <Button
            size="sm"
            variant="outline-primary"
            onClick={() => set({ tiers: [...typed.tiers, { from_quantity: '', unit_price: '' }] })}
          >
            Add step
          </Button>
          {wrong.size === 0 && <Steps tiers={typed.tiers} unit={unitName(product.unit, 2)} />}
        </>
      )}
      <div className="cardfields mt-2">
        {typed.mode !== 'markup' && field('included', 'Included')}
        {typed.mode !== 'markup' && field('committed', 'Committed')}
        {field('overage_price', 'Past the cap, each')}
        {field('minimum', 'Minimum')}
        {field('fixed_fee', 'Fixed fee')}
        <Form.Group controlId="card-fees">
          <Form.Label>Minimum and fee</Form.Label>
          <Form.Select value={typed.fees} onChange={(event) => set({ fees: event.target.value as Typed['fees'] })}>
            <option value="whole">whole</option>
            <option value="by_day">by day</option>
          </Form.Select>
        </Form.Group>
      </div>
      <div className="d-flex gap-2 align-items-center mt-2">
        <Button type="submit" disabled={!change}>
          Add to draft
        </Button>
        {added && (
          <span className="good" role="status">
            In the draft.
          </span>
        )}
        {was && <span className="near small">Replaces the price of that day.</span>}
      </div>
      {wrong.size > 0 && (
        <ul className="over small list-unstyled mt-2 mb-0" id="card-wrong" aria-live="polite">
          {[...wrong].map(([name, right]) => (
            <li key={name}>{right}</li>
          ))}
        </ul>
      )}
      {change && <WouldCharge change={change} buyer={buyer !== null} />}
    </Form>
  )
}

const SHOWN = 8

/** What the card would have charged: last month and over twelve, the largest differences first. */
function WouldCharge({ change, buyer }: { change: ReturnType<typeof changeOf>; buyer: boolean }) {
  const asked = useRested(JSON.stringify(change), 400)
  const found = useQuery({
    queryKey: ['statements', 'prices', 'preview', asked],
    queryFn: () =>
      take(api.POST('/api/prices/preview', { body: { card: JSON.parse(asked) as ReturnType<typeof changeOf> } })),
    placeholderData: keepPreviousData,
    retry: false,
    gcTime: 0,
  })
  if (found.isError)
    return (
      <p className="over small mt-2" role="alert">
        {found.error.message}
      </p>
    )
  const rows = found.data
  if (!rows) return <p className="quiet small mt-2">Calculating what it would have charged…</p>
  if (rows.length === 0)
    return <p className="quiet small mt-2">It would have charged nothing in the last twelve months.</p>
  const total = (name: 'was' | 'would_be' | 'was_over_year' | 'would_be_over_year') =>
    sum(rows.map((each) => each[name]))
  return (
    <section aria-label="What it would have charged" className="mt-3">
      <h3 className="sub">What it would have charged, {rows[0]?.currency}</h3>
      <table className="ledger tight wouldcharge">
        <thead>
          <tr>
            <th>{buyer ? 'Buyer' : `${rows.length} buyers`}</th>
            <th className="fig">Last month</th>
            <th className="fig">Change</th>
            <th className="fig">12 months</th>
            <th className="fig">Change</th>
          </tr>
        </thead>
        <tbody>
          {rows.slice(0, SHOWN).map((each) => (
            <tr key={each.buyer}>
              <td title={each.name}>{each.name}</td>
              <td className="fig">{money(each.would_be)}</td>
              <td className="fig quiet">{signed(minus(each.would_be, each.was))}</td>
              <td className="fig">{money(each.would_be_over_year)}</td>
              <td className="fig quiet">{signed(minus(each.would_be_over_year, each.was_over_year))}</td>
            </tr>
          ))}
        </tbody>
        {rows.length > 1 && (
          <tfoot>
            <tr>
              <td>{rows.length > SHOWN ? `All, with ${rows.length - SHOWN} more` : 'Together'}</td>
              <td className="fig">{money(total('would_be'))}</td>
              <td className="fig">{signed(minus(total('would_be'), total('was')))}</td>
              <td className="fig">{money(total('would_be_over_year'))}</td>
              <td className="fig">{signed(minus(total('would_be_over_year'), total('was_over_year')))}</td>
            </tr>
          </tfoot>
        )}
      </table>
    </section>
  )
}
