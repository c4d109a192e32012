import { useQuery } from '@tanstack/react-query'
import { useState } from 'react'
import { Button, Dropdown, Form, Modal } from 'react-bootstrap'
import { api, fileAddress, take, type Schemas } from '../../api/client'
import { productsInSight, useCan } from '../../api/queries'
import { useAction } from '../../api/useAction'
import { isAbout } from '../../components/Field'
import { FormDialog } from '../../components/FormDialog'
import { useOutcome } from '../../components/Outcome'
import { Trouble, Wait } from '../../components/States'
import { monthName } from '../../domain/months'

type Account = Schemas['JournalAccount']

/** A seller's month for its books, as entries of a menu: all documents in one file, journal, tax and cost rows. */
export function MonthFiles({
  seller,
  month,
  closed,
  name,
}: {
  seller: string
  month: string
  closed: boolean
  /** Open the accounts of the journal. */
  name: () => void
}) {
  const settles = useCan('statements.settle')
  const path = `/api/accounting/${encodeURIComponent(seller)}`
  const span = { from: month, until: month }
  return (
    <>
      <Dropdown.Divider />
      <Dropdown.Header className="small">Accounting, {monthName(month)}</Dropdown.Header>
      {closed && (
        <Dropdown.Item href={fileAddress(`${path}/documents`, { month })} download>
          All documents (zip)
        </Dropdown.Item>
      )}
      <Dropdown.Item href={fileAddress(`${path}/journal`, { month, form: 'csv' })} download>
        Journal (CSV)
      </Dropdown.Item>
      <Dropdown.Item href={fileAddress(`${path}/journal`, { month, form: 'xlsx' })} download>
        Journal (XLSX)
      </Dropdown.Item>
      {closed && (
        <Dropdown.Item href={fileAddress(`${path}/tax`, { ...span, form: 'csv' })} download>
          Tax summary (CSV)
        </Dropdown.Item>
      )}
      <Dropdown.Item href={fileAddress(`${path}/focus`, span)} download>
        Cost rows (FOCUS)
      </Dropdown.Item>
      {settles && (
        <Dropdown.Item as="button" type="button" onClick={name}>
          Journal accounts…
        </Dropdown.Item>
      )}
    </>
  )
}

/** What one's books call things: an account a role, and where it matters a product or a percentage. */
export function JournalAccounts({ seller, close }: { seller: string; close: () => void }) {
  const found = useQuery({
    queryKey: ['accounting', seller],
    queryFn: () => take(api.GET('/api/accounting/{seller}/journal-accounts', { params: { path: { seller } } })),
    staleTime: 0,
    gcTime: 0,
  })
  if (found.data) return <AccountsForm seller={seller} body={found.data} close={close} />
  return (
    <Modal show onHide={close} animation={false} size="lg" aria-labelledby="journal-title">
      <Modal.Header closeButton>
        <Modal.Title as="h2" id="journal-title">
          Journal accounts
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        {found.isError ? (
          <Trouble error={found.error} again={() => void found.refetch()} />
        ) : (
          <Wait what="the accounts" />
        )}
      </Modal.Body>
    </Modal>
  )
}

function AccountsForm({
  seller,
  body,
  close,
}: {
  seller: string
  body: Schemas['JournalAccountsFound']
  close: () => void
}) {
  const products = useQuery(productsInSight).data ?? []
  const [rows, setRows] = useState<Account[]>(body.accounts)
  const outcome = useOutcome()
  const { run, busy, error, trouble } = useAction('accounting', 'log')
  const change = (place: number, values: Partial<Account>) =>
    setRows((now) => now.map((each, at) => (at === place ? { ...each, ...values } : each)))
  const save = () =>
    run(async () => {
      await take(
        api.PUT('/api/accounting/{seller}/journal-accounts', {
          params: { path: { seller } },
          body: { accounts: rows },
        }),
      )
      outcome('Journal accounts saved.')
      close()
    })
  return (
    <FormDialog
      id="journal"
      title="Journal accounts"
      size="lg"
      submit="Save"
      busy={busy}
      trouble={trouble}
      send={() => void save()}
      close={close}
    >
      <table className="ledger tight">
        <thead>
          <tr>
            <th>For</th>
            <th>Only for</th>
            <th>Account in your books</th>
            <th>
              <span className="visually-hidden">Remove</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {rows.map((each, place) => {
            const role = body.roles.find((one) => one.role === each.role)
            const first = rows.findIndex((one) => one.role === each.role) === place
            return (
              <tr key={place}>
                <td>{first && (role?.says ?? each.role)}</td>
                <td>
                  {first ? (
                    <span className="quiet">all others</span>
                  ) : role?.by === 'product' ? (
                    <Form.Select
                      size="sm"
                      required
                      aria-label={`Product ${place + 1}`}
                      value={each.of ?? ''}
                      onChange={(event) => change(place, { of: event.target.value })}
                    >
                      <option value="">Choose a product</option>
                      {products.map((one) => (
                        <option key={one.product} value={one.product}>
                          {one.name}
                        </option>
                      ))}
                    </Form.Select>
                  ) : (
                    <Form.Control
                      size="sm"
                      required
                      aria-label={`Percentage ${place + 1}`}
                      placeholder="23"
                      value={each.of ?? ''}
                      onChange={(event) => change(place, { of: event.target.value })}
                    />
                  )}
                </td>
                <td>
                  <Form.Control
                    size="sm"
                    required
                    maxLength={64}
                    aria-label={`Account for ${role?.says ?? each.role} ${each.of ?? ''}`.trim()}
                    isInvalid={isAbout(error, `accounts.${place}.account`)}
                    value={each.account}
                    onChange={(event) => change(place, { account: event.target.value })}
                  />
                </td>
                <td className="text-nowrap">
                  {first && role?.by ? (
                    <Button
                      size="sm"
                      variant="link"
                      className="p-0"
                      onClick={() =>
                        setRows((now) => [
                          ...now.slice(0, place + 1),
                          { role: each.role, of: '', account: each.account },
                          ...now.slice(place + 1),
                        ])
                      }
                    >
                      Add {role.by}
                    </Button>
                  ) : (
                    !first && (
                      <Button
                        size="sm"
                        variant="link"
                        className="p-0"
                        onClick={() => setRows((now) => now.filter((_, at) => at !== place))}
                      >
                        Remove
                      </Button>
                    )
                  )}
                </td>
              </tr>
            )
          })}
        </tbody>
      </table>
    </FormDialog>
  )
}
