import { Form } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { useAction } from '../../api/useAction'
import { Field, isAbout } from '../../components/Field'
import { FormDialog } from '../../components/FormDialog'
import { BuyerSelect } from './BuyerSelect'
import { called, CHOICES, DAYS, FIGURES, HINTS, KINDS, LABELS, named, REQUIRED, type Cells, type Table } from './terms'

/** A row of a table of terms: a new one, or what is said in it. */
export function TermsDialog({
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
      const path = { seller: prices.seller, table: table.table }
      await take(api.PUT('/api/terms/{seller}/{table}', { params: { path, query: { new: !row } }, body: { cells } }))
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
