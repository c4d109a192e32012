import { useQuery } from '@tanstack/react-query'
import { useDeferredValue, useEffect, useRef } from 'react'
import { api, take } from '../../api/client'
import { me, useCan } from '../../api/queries'
import { ExportMenu, TableMenu } from '../../components/ExportMenu'
import { FindField } from '../../components/FindField'
import { useAddress } from '../../components/address'
import { Empty, Trouble, Wait } from '../../components/States'
import { usePages } from '../../components/usePages'
import { VirtualTable, type Column } from '../../components/VirtualTable'
import { dayOf, monthAfter, shortDay } from '../../domain/months'
import { useDraft } from '../drafts/context'
import { StatementTabs } from '../statements/StatementTabs'
import { cardWords, type Card } from './card'
import { CardPanel } from './CardPanel'
import { OwnPrices } from './OwnPrices'
import { buyersOf, type PriceBuyer } from './queries'
import { Terms } from './Terms'

const [BUYER, CELL] = [190, 142]

/** A buyer with the cards of its own; null stands for all buyers. */
type Row = { buyer: PriceBuyer | null; cards: Map<string, Card> }

const byProduct = (cards: Card[]) => new Map(cards.map((each) => [each.product, each]))

/** What does one charge for what, and what does one pay? */
export default function PricesScreen() {
  const who = useQuery(me).data
  const own = who?.running
  const [params, change] = useAddress()
  const pays = own?.kind !== 'operator'
  const [drafts, sells] = [useCan('drafts.change'), useCan('accounts.change')]
  const draft = useDraft()
  const seller = own?.account ?? ''
  const found = useQuery({
    queryKey: ['statements', 'prices', seller],
    queryFn: () => take(api.GET('/api/prices/of/{seller}', { params: { path: { seller } } })),
    enabled: seller !== '',
  })
  const find = params.get('find') ?? ''
  const words = useDeferredValue(find)
  const list = usePages(
    ['statements', 'prices', seller, 'buyers', words],
    (offset, limit) =>
      take(
        api.GET('/api/prices/buyers/{seller}', { params: { path: { seller }, query: { find: words, offset, limit } } }),
      ),
    undefined,
    undefined,
    seller !== '',
  )
  const asked = params.get('buyer')
  const chosen = useQuery({
    ...buyersOf(seller, { buyer: asked ?? '' }),
    enabled: seller !== '' && asked !== null,
    placeholderData: undefined,
  }).data
  if (found.isError) return <Trouble page="Prices" error={found.error} again={() => void found.refetch()} />
  if (list.error) return <Trouble page="Prices" error={list.error} again={() => void list.refetch()} />
  if (!found.data || !own) return <Wait what="the prices" />
  const prices = found.data
  const present = dayOf(who.now)
  const shows = params.get('show') ?? (pays && !prices.charges ? 'pay' : 'charge')
  const general = byProduct(prices.cards)
  const rows: (Row | undefined)[] = [
    { buyer: null, cards: general },
    ...Array.from({ length: list.total ?? 0 }, (_, place) => {
      const buyer = list.rowAt(place)
      return buyer && { buyer, cards: byProduct(buyer.cards) }
    }),
  ]
  const drafted = new Set(
    Object.values(draft.changes).flatMap((each) =>
      each.kind === 'rate' && each.seller === seller ? [`${each.buyer ?? ''}\n${each.product}`] : [],
    ),
  )
  const at = { product: params.get('product'), buyer: asked }
  const product = prices.products.find((each) => each.product === at.product)
  const buyer = at.buyer === null ? null : chosen && (chosen.rows[0] ?? null)
  const columns: Column<Row>[] = [
    {
      key: 'buyer',
      title: 'Buyer',
      width: `minmax(${BUYER}px, 1.4fr)`,
      cell: (row) => (row.buyer ? row.buyer.name : <b>All buyers</b>),
    },
    ...prices.products.map((each): Column<Row> => ({
      key: each.product,
      title: each.name,
      width: `minmax(${CELL}px, 1fr)`,
      cell: (row) => {
        const key = `${row.buyer?.buyer ?? ''}\n${each.product}`
        return (
          <Cell
            card={row.cards.get(each.product)}
            general={row.buyer ? general.get(each.product) : undefined}
            drawn={each.drawn}
            drafted={drafted.has(key)}
            chosen={at.product === each.product && at.buyer === (row.buyer?.buyer ?? null)}
            label={`${each.name}, ${row.buyer?.name ?? 'all buyers'}`}
            today={present}
            open={() => change({ product: each.product, buyer: row.buyer?.buyer ?? null })}
          />
        )
      },
    })),
  ]
  return (
    <>
      <div className="bar">
        <h1>Prices</h1>
        <StatementTabs at="prices" />
        <span className="seg" role="group" aria-label="Which prices">
          <button
            type="button"
            aria-pressed={shows === 'charge'}
            onClick={() => change({ show: 'charge', find: null })}
          >
            What you charge
          </button>
          <button
            type="button"
            aria-pressed={shows === 'terms'}
            onClick={() => change({ show: 'terms', product: null, find: null })}
          >
            Charges, discounts and tax
          </button>
          {pays && (
            <button type="button" aria-pressed={shows === 'pay'} onClick={() => change({ show: 'pay', product: null })}>
              What you pay
            </button>
          )}
        </span>
        <span className="grow" />
        {shows === 'charge' && prices.count > 0 && (
          <FindField
            label="Find a buyer"
            group="Prices"
            find={find}
            onFind={(words) => change({ find: words })}
            placeholder="Find a buyer  /"
          />
        )}
        {shows === 'charge' && prices.count > 0 && (
          <ExportMenu
            path={`/api/prices/buyers/${encodeURIComponent(seller)}/export`}
            named="prices"
            params={{ find }}
          />
        )}
        {shows === 'pay' && pays && <TableMenu name="own-prices" of="What you pay" />}
      </div>
      {shows === 'pay' && pays ? (
        <OwnPrices account={own.account} />
      ) : shows === 'terms' ? (
        <Terms prices={prices} changes={sells} isOperator={own.kind === 'operator'} />
      ) : prices.count === 0 ? (
        <div className="scroll">
          <Empty title="No buyers">Accounts directly below {own.name} are its buyers; there are none yet.</Empty>
        </div>
      ) : (
        <div className={product ? 'workspace' : 'workspace alone'}>
          <div className="gridside">
            <VirtualTable
              rows={rows}
              columns={columns}
              rowKey={(row) => row.buyer?.buyer ?? ''}
              onShown={list.onShown}
              label={`Prices of ${prices.seller_name} a unit and month`}
              rowHeight={46}
              wide={BUYER + prices.products.length * CELL}
            />
          </div>
          {product && buyer !== undefined && (
            <CardPanel
              key={`${product.product} ${buyer?.buyer ?? ''}`}
              prices={prices}
              product={product}
              buyer={buyer}
              begins={`${monthAfter(present.slice(0, 7), 1)}-01`}
              changes={drafts && sells}
              close={() => change({ product: null, buyer: null })}
            />
          )}
        </div>
      )}
    </>
  )
}

/** A price in force and since when; quiet where it is the general one. */
function Cell({
  card,
  general,
  drawn,
  drafted,
  chosen,
  label,
  today,
  open,
}: {
  card: Card | undefined
  general: Card | undefined
  /** Whether buyers can draw the product: else nobody is charged. */
  drawn: boolean
  drafted: boolean
  chosen: boolean
  label: string
  today: string
  open: () => void
}) {
  const begun = card && card.first_day <= today ? card : undefined
  const shown = begun ?? general
  const next = begun ? begun.next_day : card?.first_day
  const button = useRef<HTMLButtonElement>(null)
  useEffect(() => {
    if (chosen) button.current?.scrollIntoView({ block: 'nearest', inline: 'nearest' })
  }, [chosen])
  return (
    <button
      ref={button}
      type="button"
      className={`pricecell${chosen ? ' chosen' : ''}${drafted ? ' drafted' : ''}`}
      aria-pressed={chosen}
      onClick={open}
    >
      <span className={begun ? undefined : 'quiet'}>
        <span className="visually-hidden">{label}: </span>
        {shown ? cardWords(shown) : '–'}
      </span>
      <small className="quiet">
        {shown && !drawn
          ? 'not in a pool'
          : begun
            ? `since ${shortDay(begun.first_day)}`
            : shown
              ? 'general'
              : 'no price'}
        {next && `, another ${shortDay(next)}`}
        {drafted && <span className="visually-hidden">, changed in the draft</span>}
      </small>
    </button>
  )
}
