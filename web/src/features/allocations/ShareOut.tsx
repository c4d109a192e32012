import { useMutation, useQuery } from '@tanstack/react-query'
import { useEffect, useId, useState } from 'react'
import { Button, Form, Modal } from 'react-bootstrap'
import { api, messageOf, take, type Schemas } from '../../api/client'
import type { Pool } from '../../api/queries'
import { Trouble } from '../../components/States'
import { parseUnits, units, unitName } from '../../domain/units'
import { useDraft } from '../drafts/context'
import type { NamedAccount } from './listing'
import { DayField } from '../../components/DayField'

type Way = Schemas['ShareOut']['way']

const WAYS: { way: Way; name: string }[] = [
  { way: 'need', name: 'Breaches first' },
  { way: 'max-min', name: 'Equalise by need' },
  { way: 'even', name: 'Evenly' },
  { way: 'people', name: 'By people' },
  { way: 'use', name: 'By current use' },
  { way: 'reserve', name: 'By current reserve' },
]

interface ShareOutProps {
  pool: Pool
  /** Whom it is shared out to at first. */
  find: () => Promise<NamedAccount[]>
  close: () => void
}

/** Share an amount out over accounts: what each would get and why, corrected by hand while the rest is shared anew. */
export function ShareOut({ pool, find, close }: ShareOutProps) {
  const found = useQuery({ queryKey: ['allocations', 'shared to', useId()], queryFn: find, staleTime: Infinity })
  const accounts = found.data ?? []
  const draft = useDraft()
  const [amount, setAmount] = useState('')
  const [way, setWay] = useState<Way>('need')
  const [asWhat, setAsWhat] = useState<'cap' | 'reserve'>('cap')
  const [day, setDay] = useState('')
  const [left, setLeft] = useState<ReadonlySet<string>>(new Set())
  const [bounds, setBounds] = useState<Record<string, { least: string; most: string; part: string }>>({})
  const per = pool.per_unit
  const read = (text: string | undefined): number | null | undefined =>
    text === undefined || text.trim() === '' ? null : (parseUnits(text, per) ?? undefined)
  const wanted = accounts
    .filter((each) => !left.has(each.code))
    .map((each) => {
      const bound = bounds[each.code]
      const fixed = read(bound?.part)
      return { account: each.code, least: fixed ?? read(bound?.least) ?? 0, most: fixed ?? read(bound?.most) ?? null }
    })
  const whole = read(amount)
  const wrong =
    whole === undefined ||
    Object.values(bounds).some((each) => [each.least, each.most, each.part].some((text) => read(text) === undefined))
  const body = {
    product: pool.product,
    amount: whole ?? null,
    accounts: wanted,
    way,
    as_what: asWhat,
    draft: draft.facts?.id ?? null,
  }
  const asked = JSON.stringify(body)
  const revision = draft.facts?.revision
  const { mutate, data, error } = useMutation({
    mutationFn: (text: string) =>
      take(api.POST('/api/drafts/share-out', { body: JSON.parse(text) as Schemas['ShareOut'] })),
  })
  useEffect(() => {
    if (wrong || wanted.length === 0) return
    const timer = setTimeout(() => mutate(asked), 120)
    return () => clearTimeout(timer)
    // eslint-disable-next-line react-hooks/exhaustive-deps -- the text stands for all of it
  }, [asked, revision, wrong, mutate])
  const parts = new Map(data?.parts.map((each) => [each.account, each]))
  const bound = (code: string, name: 'least' | 'most' | 'part', text: string) =>
    setBounds((now) => ({ ...now, [code]: { least: '', most: '', part: '', ...now[code], [name]: text } }))
  const unit = unitName(pool.unit, 2)
  const fill = () => {
    const until = day ? { until: { last_day: day } } : {}
    draft.set((data?.parts ?? []).flatMap((each) => (each.change ? [{ ...each.change, ...until }] : [])))
    close()
  }
  return (
    <Modal show onHide={close} animation={false} size="lg" scrollable aria-labelledby="share-title">
      <Modal.Header closeButton>
        <Modal.Title as="h2" id="share-title">
          Share out {pool.name}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body
        as="form"
        id="share-form"
        onSubmit={(event: React.FormEvent) => {
          event.preventDefault()
          if (!wrong && data && wanted.length > 0) fill()
        }}
      >
        <div className="shareform">
          <Form.Group controlId="share-amount">
            <Form.Label>How much, {unit}</Form.Label>
            <Form.Control
              value={amount}
              autoFocus
              inputMode="decimal"
              isInvalid={whole === undefined}
              placeholder={data && data.free !== null ? `all available: ${units(data.free, per)}` : 'all available'}
              onChange={(event) => setAmount(event.target.value)}
            />
          </Form.Group>
          <Form.Group controlId="share-way">
            <Form.Label>Method</Form.Label>
            <Form.Select value={way} onChange={(event) => setWay(event.target.value as Way)}>
              {WAYS.map((each) => (
                <option value={each.way} key={each.way}>
                  {each.name}
                </option>
              ))}
            </Form.Select>
          </Form.Group>
          <Form.Group controlId="share-as">
            <Form.Label>As</Form.Label>
            <Form.Select value={asWhat} onChange={(event) => setAsWhat(event.target.value as 'cap' | 'reserve')}>
              <option value="cap">raise the cap</option>
              <option value="reserve">raise the reserve</option>
            </Form.Select>
          </Form.Group>
          <Form.Group controlId="share-until">
            <Form.Label>Last day (optional)</Form.Label>
            <DayField value={day} onDay={setDay} />
          </Form.Group>
        </div>
        {found.isError && <Trouble error={found.error} again={() => void found.refetch()} />}
        {error && (
          <p className="over" role="alert">
            {messageOf(error)}
          </p>
        )}
        <table className="ledger tight" aria-label="Shares">
          <thead>
            <tr>
              <th>Account</th>
              <th className="fig">Least</th>
              <th className="fig">Most</th>
              <th className="fig">Gets, {unit}</th>
              <th>Why</th>
            </tr>
          </thead>
          <tbody>
            {accounts.map((each) => {
              const part = !left.has(each.code) ? parts.get(each.code) : undefined
              const typed = bounds[each.code]
              const input = (name: 'least' | 'most' | 'part', label: string, shown: string) => (
                <Form.Control
                  size="sm"
                  className="figure"
                  aria-label={`${label} of ${each.name}`}
                  disabled={left.has(each.code)}
                  value={typed?.[name] ?? ''}
                  placeholder={shown}
                  isInvalid={read(typed?.[name]) === undefined}
                  onChange={(event) => bound(each.code, name, event.target.value)}
                />
              )
              return (
                <tr key={each.code}>
                  <td>
                    <Form.Check
                      id={`share-${each.code}`}
                      label={each.name}
                      checked={!left.has(each.code)}
                      onChange={(event) =>
                        setLeft((now) => {
                          const next = new Set(now)
                          if (event.target.checked) next.delete(each.code)
                          else next.add(each.code)
                          return next
                        })
                      }
                    />
                  </td>
                  <td className="fig">{input('least', 'Least', '0')}</td>
                  <td className="fig">{input('most', 'Most', 'any')}</td>
                  <td className="fig">{input('part', 'What is set by hand', part ? units(part.part, per) : '–')}</td>
                  <td className="quiet small">{part?.reason}</td>
                </tr>
              )
            })}
          </tbody>
        </table>
      </Modal.Body>
      <Modal.Footer>
        <span className="quiet small grow" role="status">
          {data &&
            !wrong &&
            `${units(data.amount - data.left_over, per)} of ${units(data.amount, per)} ${unit} shared out${data.left_over ? `, ${units(data.left_over, per)} left over` : ''}${data.free === null ? '' : `; ${units(data.free, per)} available to allocate${data.by_draft ? `, ${units(data.by_draft, per)} of it by the draft` : ''}`}.`}
        </span>
        <Button variant="outline-primary" onClick={close}>
          Cancel
        </Button>
        <Button type="submit" form="share-form" disabled={wrong || !data || wanted.length === 0}>
          Add to draft
        </Button>
      </Modal.Footer>
    </Modal>
  )
}
