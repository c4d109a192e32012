import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Form } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { TableMenu } from '../../components/ExportMenu'
import { Field, isAbout } from '../../components/Field'
import { FormDialog } from '../../components/FormDialog'
import { useOutcome } from '../../components/Outcome'
import { Trouble, Wait } from '../../components/States'
import { money } from '../../domain/money'
import { dayName } from '../../domain/months'
import { BuyerSelect } from './BuyerSelect'
import { LoadTerms } from './LoadTerms'

type Table = Schemas['TermsTable']
type Name = Table['table']
type Cells = Record<string, string>

interface Kind {
  title: string
  one: string
  about: string
  empty: string
}

const KINDS: Record<Name, Kind> = {
  charges: {
    title: 'Charges',
    one: 'charge',
    about: 'What is charged besides usage: once, or every month.',
    empty: 'No charges.',
  },
  discounts: {
    title: 'Discounts',
    one: 'discount',
    about: 'Percent off a product, or off all usage and charges.',
    empty: 'No discounts.',
  },
  credits: {
    title: 'Credits',
    one: 'credit',
    about: 'Amounts that pay for what is owed until they are used up.',
    empty: 'No credits.',
  },
  tax_rates: {
    title: 'Tax rates',
    one: 'tax rate',
    about: 'The percentage of a tax class from a day on. Products and charges name their class.',
    empty: 'No tax rates: nothing is taxed.',
  },
  exchange_rates: {
    title: 'Exchange rates',
    one: 'exchange rate',
    about: 'Where costs are in another currency than prices: 1 of one is so much of the other. The newest counts.',
    empty: 'No exchange rates.',
  },
}
const LABELS: Record<string, string> = {
  buyer: 'Buyer',
  reference: 'Reference',
  description: 'Description',
  tax_class: 'Tax class',
  quantity: 'Quantity',
  unit_price: 'Unit price',
  currency: 'Currency',
  first_day: 'First day',
  last_day: 'Last day',
  every: 'Charged',
  fees: 'Part of a month',
  product: 'Product',
  percent: 'Percent',
  ceiling: 'Ceiling',
  amount: 'Amount',
  day: 'Day',
  from: '1 of',
  to: 'Is so many',
  rate: 'Rate',
}
const HINTS: Record<string, string> = {
  currency: 'Empty: your own',
  last_day: 'Empty: open',
  quantity: 'Empty: 1',
  ceiling: 'Empty: none',
  tax_class: 'Empty: not taxed',
}
const CHOICES: Record<string, [string, string][]> = {
  every: [
    ['once', 'once'],
    ['month', 'monthly'],
  ],
  fees: [
    ['whole', 'whole'],
    ['by_day', 'by the day'],
  ],
}
const FIGURES = new Set(['quantity', 'unit_price', 'percent', 'ceiling', 'amount', 'rate'])
const DAYS = new Set(['first_day', 'last_day', 'day'])
const REQUIRED = new Set([
  'buyer',
  'reference',
  'unit_price',
  'first_day',
  'percent',
  'amount',
  'day',
  'from',
  'to',
  'rate',
])

/** What a seller charges, gives off and taxes besides its prices. */
export function Terms({
  prices,
  changes,
  isOperator,
}: {
  prices: Schemas['PricesBody']
  changes: boolean
  isOperator: boolean
}) {
  const found = useQuery({
    queryKey: ['statements', 'terms', prices.seller],
    queryFn: () => take(api.GET('/api/terms/{seller}', { params: { path: { seller: prices.seller } } })),
  })
  const [editing, setEditing] = useState<{ table: Table; row: Cells | null } | null>(null)
  const [loading, setLoading] = useState<Table | null>(null)
  const outcome = useOutcome()
  const { run, busy, trouble } = useAction('statements', 'log')
  if (found.isError) return <Trouble error={found.error} again={() => void found.refetch()} />
  if (!found.data) return <Wait what="the terms" />
  const remove = (table: Table, row: Cells) =>
    run(async () => {
      const cells = Object.fromEntries(table.key.map((name) => [name, row[name] ?? '']))
      const path = { seller: prices.seller, table: table.table }
      await take(api.POST('/api/terms/{seller}/{table}/remove', { params: { path }, body: { cells } }))
      outcome(`${named(table, row)} removed.`, {
        label: 'Undo',
        run: () => void put(prices.seller, table.table, row),
      })
    })
  const put = (seller: string, table: Name, cells: Cells) =>
    run(async () => {
      await take(api.PUT('/api/terms/{seller}/{table}', { params: { path: { seller, table } }, body: { cells } }))
    })
  return (
    <div className="scroll px-3 pb-3" role="region" aria-label="Terms" tabIndex={0}>
      {trouble && (
        <p className="over" role="alert">
          {trouble}
        </p>
      )}
      {found.data.tables.map((table) => {
        const kind = KINDS[table.table]
        const may = changes && (table.table !== 'exchange_rates' || isOperator)
        return (
          <section key={table.table} aria-label={kind.title} className="mb-3">
            <div className="d-flex flex-wrap align-items-center gap-2 mt-2">
              <h2 className="sub m-0">{kind.title}</h2>
              <span className="quiet small" style={{ flex: '1 1 240px' }}>
                {kind.about}
              </span>
              {table.rows.length > 0 && (
                <TableMenu
                  name={table.table.replace('_', '-')}
                  label={`Export ${kind.title.toLowerCase()}`}
                  rows={() => [table.columns, ...table.rows.map((row) => table.columns.map((name) => row[name] ?? ''))]}
                />
              )}
              {may && (
                <>
                  <Button
                    size="sm"
                    variant="link"
                    aria-label={`Load ${kind.title.toLowerCase()} from a file…`}
                    onClick={() => setLoading(table)}
                  >
                    Load…
                  </Button>
                  <Button size="sm" variant="outline-primary" onClick={() => setEditing({ table, row: null })}>
                    Add {kind.one}…
                  </Button>
                </>
              )}
            </div>
            {table.rows.length === 0 ? (
              <p className="quiet m-0">{kind.empty}</p>
            ) : (
              <div className="termrows" role="group" aria-label={`${kind.title}, rows`} tabIndex={0}>
                <table className="ledger tight" aria-label={kind.title}>
                  <thead>
                    <tr>
                      {table.columns.map((name) => (
                        <th key={name} className={FIGURES.has(name) ? 'fig' : undefined}>
                          {LABELS[name]}
                        </th>
                      ))}
                      {may && (
                        <th>
                          <span className="visually-hidden">Actions</span>
                        </th>
                      )}
                    </tr>
                  </thead>
                  <tbody>
                    {table.rows.map((row) => (
                      <tr key={called(table, row)}>
                        {table.columns.map((name) => (
                          <td
                            key={name}
                            className={FIGURES.has(name) ? 'fig' : DAYS.has(name) ? 'text-nowrap' : undefined}
                          >
                            {shown(name, row[name] ?? '', prices, found.data.names)}
                          </td>
                        ))}
                        {may && (
                          <td className="text-nowrap text-end">
                            <Button
                              size="sm"
                              variant="link"
                              className="p-0 me-2"
                              aria-label={`Change ${called(table, row)}`}
                              onClick={() => setEditing({ table, row })}
                            >
                              Change
                            </Button>
                            <Button
                              size="sm"
                              variant="link"
                              className="p-0"
                              disabled={busy}
                              aria-label={`Remove ${called(table, row)}`}
                              onClick={() => void remove(table, row)}
                            >
                              Remove
                            </Button>
                          </td>
                        )}
                      </tr>
                    ))}
                  </tbody>
                </table>
              </div>
            )}
          </section>
        )
      })}
      <p className="quiet small m-0">Closed months keep what they were closed with; changes count in open ones.</p>
      {loading && (
        <LoadTerms
          seller={prices.seller}
          table={loading}
          what={KINDS[loading.table].title.toLowerCase()}
          close={() => setLoading(null)}
          done={(said) => {
            setLoading(null)
            outcome(said)
          }}
        />
      )}
      {editing && (
        <TermsDialog
          prices={prices}
          table={editing.table}
          row={editing.row}
          close={() => setEditing(null)}
          done={(said) => {
            setEditing(null)
            outcome(said)
          }}
        />
      )}
    </div>
  )
}

/** A row with what it is, as a sentence begins. */
function named(table: Table, row: Cells): string {
  const { one } = KINDS[table.table]
  return `${one.charAt(0).toUpperCase()}${one.slice(1)} ${called(table, row)}`
}

const called = (table: Table, row: Cells) => table.key.map((name) => row[name] ?? '').join(' ')

/** A cell as it is read. */
function shown(
  name: string,
  text: string,
  prices: Schemas['PricesBody'],
  names: Record<string, string>,
): React.ReactNode {
  if (text === '') {
    const rest = { product: 'usage and charges', last_day: 'open', currency: 'own' }[name]
    return <span className="quiet">{rest ?? '–'}</span>
  }
  if (name === 'buyer') return names[text] ?? text
  if (name === 'product') return prices.products.find((each) => each.product === text)?.name ?? text
  if (DAYS.has(name)) return dayName(text)
  if (name === 'percent') return `${text}\u00a0%`
  if (name === 'unit_price' || name === 'amount' || name === 'ceiling') return money(text)
  return CHOICES[name]?.find(([key]) => key === text)?.[1] ?? text
}

function TermsDialog({
  prices,
  table,
  row,
  done,
  close,
}: {
  prices: Schemas['PricesBody']
  table: Table
  /** The row that is changed; null for a new one. */
  row: Cells | null
  done: (said: string) => void
  close: () => void
}) {
  const kind = KINDS[table.table]
  const { run, busy, error, trouble } = useAction('statements', 'log')
  const save = (form: FormData) =>
    run(async () => {
      const cells = Object.fromEntries(
        table.columns.map((name) => {
          const value = form.get(name)
          return [name, typeof value === 'string' ? value.trim() : (row?.[name] ?? '')]
        }),
      )
      if (!row && table.rows.some((each) => called(table, each) === called(table, cells)))
        throw new Error(`There is a ${kind.one} of that name already; change it instead.`)
      const path = { seller: prices.seller, table: table.table }
      await take(api.PUT('/api/terms/{seller}/{table}', { params: { path }, body: { cells } }))
      done(`${named(table, cells)} saved.`)
    })
  const fixed = (name: string) => row !== null && table.key.includes(name)
  const told = table.columns.some((name) => isAbout(error, name))
  return (
    <FormDialog
      id="terms"
      title={row ? `Change ${called(table, row)}` : `Add ${kind.one}`}
      size="lg"
      submit="Save"
      busy={busy}
      trouble={!told && trouble}
      send={(form) => void save(form)}
      close={close}
    >
      <div className="cardfields">
        {table.columns.map((name, place) => {
          const options: [string, string][] | undefined =
            name === 'product'
              ? [
                  ['', 'usage and charges'],
                  ...prices.products.map((each): [string, string] => [each.product, each.name]),
                ]
              : CHOICES[name]
          if (name === 'buyer' && !fixed(name))
            return (
              <Form.Group controlId={name} key={name}>
                <Form.Label>{LABELS[name]}</Form.Label>
                <BuyerSelect
                  seller={prices.seller}
                  name={name}
                  choose="Choose a buyer"
                  autoFocus={place === 0}
                  required
                  defaultValue={row?.[name] ?? ''}
                  isInvalid={isAbout(error, name)}
                />
              </Form.Group>
            )
          return options && !fixed(name) ? (
            <Form.Group controlId={name} key={name}>
              <Form.Label>{LABELS[name]}</Form.Label>
              <Form.Select
                name={name}
                autoFocus={place === 0}
                required={REQUIRED.has(name)}
                defaultValue={row?.[name] ?? ''}
                isInvalid={isAbout(error, name)}
              >
                {options.map(([key, says]) => (
                  <option key={key} value={key}>
                    {says}
                  </option>
                ))}
              </Form.Select>
            </Form.Group>
          ) : (
            <Field
              key={name}
              name={name}
              label={LABELS[name] ?? name}
              type={DAYS.has(name) ? 'date' : 'text'}
              {...(FIGURES.has(name) && {
                inputMode: 'decimal' as const,
                pattern: '\\d+(\\.\\d+)?',
                title: 'Digits, with a point before decimals',
              })}
              autoFocus={place === 0 && !fixed(name)}
              required={REQUIRED.has(name)}
              readOnly={fixed(name)}
              maxLength={200}
              defaultValue={row?.[name] ?? ''}
              error={error}
              {...(HINTS[name] && { hint: HINTS[name] })}
            />
          )
        })}
      </div>
    </FormDialog>
  )
}
