import { keepPreviousData, useQuery } from '@tanstack/react-query'
import { useId, useState } from 'react'
import { Form } from 'react-bootstrap'
import { api, take, type Schemas } from '../../api/client'
import { useCan } from '../../api/queries'
import { useAction } from '../../api/useAction'
import { Field } from '../../components/Field'
import { FormDialog } from '../../components/FormDialog'
import { useRested } from '../../components/useRested'
import type { LimitTerms } from '../../domain/draft'
import { parseUnits, roundUnits, units, whole } from '../../domain/units'
import { useDraft } from '../drafts/context'
import { Distribution } from './Distribution'
import { groupsOf, limitPreview } from './limits'
import { storageSpread } from './queries'

type AtLimit = Schemas['LayerLimit']['at_limit']

/** How what people store is spread, and whom a limit per person would put over it, before it is set. */
export function LimitDialog({
  product,
  perUnit,
  account,
  accountName,
  close,
  done,
}: {
  product: string
  perUnit: number
  account: string
  accountName: string
  close: () => void
  done: (said: string) => void
}) {
  const changes = useCan('layers.change')
  const drafts = useCan('drafts.change')
  const draft = useDraft()
  const [group, setGroup] = useState('')
  const [typed, setTyped] = useState<string | null>(null)
  const [at, setAt] = useState<{ what: AtLimit; tell: string; days: string } | null>(null)
  const id = useId()
  const groups = useQuery(groupsOf(account)).data
  const set = useQuery({
    queryKey: ['storage limits', account, group || null],
    queryFn: () =>
      take(api.GET('/api/storage-limits', { params: { query: group ? { account, group } : { account } } })),
  }).data?.find((each) => each.product === product)
  const spread = useQuery(storageSpread(product, account))
  const text = typed ?? set?.limit ?? ''
  const parsed = text.trim() === '' ? null : parseUnits(text, perUnit)
  const wrong = text.trim() !== '' && parsed === null
  const limit = useRested(wrong ? null : parsed, 250)
  const preview = useQuery({
    ...limitPreview({ product, account, group: group || null, limit }),
    placeholderData: keepPreviousData,
  })
  const { run, busy, trouble } = useAction('storage', 'storage limits', 'people')
  const what = at?.what ?? set?.at_limit ?? 'tell'
  const tell = at?.tell ?? String(set?.tell_at ?? 90)
  const days = at?.days ?? String(set?.grace_days ?? 14)
  const put = (other: Partial<{ what: AtLimit; tell: string; days: string }>) => setAt({ what, tell, days, ...other })
  const bands = preview.data?.bands ?? []
  const shown = parsed === null ? undefined : (preview.data?.limit_now ?? undefined)
  const whom = group ? `group ${groups?.find((each) => each.code === group)?.name ?? group}` : accountName
  const toDraft = () => {
    const was: LimitTerms | null = set?.limit
      ? {
          grains: parseUnits(set.limit, perUnit) ?? 0,
          at_limit: set.at_limit,
          tell_at: set.tell_at,
          grace_days: set.grace_days,
        }
      : null
    const terms: LimitTerms | null =
      parsed === null
        ? null
        : { grains: parsed, at_limit: what, tell_at: Number(tell), grace_days: what === 'grace' ? Number(days) : null }
    draft.set([{ kind: 'person limit', account, group: group || null, product, terms, was }])
    done(`Limit per person for ${whom}: added to draft.`)
  }
  const save = () =>
    run(async () => {
      await take(
        api.PUT('/api/storage-limits', {
          body: {
            account,
            group: group || null,
            product,
            amount: parsed === null ? null : text,
            at_limit: what,
            tell_at: Number(tell),
            grace_days: what === 'grace' ? Number(days) : null,
          },
        }),
      )
      done(parsed === null ? `No limit per person set by ${whom} any more.` : `${text} GB per person, set by ${whom}.`)
    })
  const differs =
    parsed !== (set?.limit ? parseUnits(set.limit, perUnit) : null) ||
    (set !== undefined && parsed !== null && (what !== set.at_limit || Number(tell) !== set.tell_at)) ||
    (what === 'grace' && Number(days) !== set?.grace_days)
  const soundDays = what !== 'grace' || /^\d{1,4}$/.test(days)
  const soundPercent = /^\d{1,3}$/.test(tell) && Number(tell) >= 1 && Number(tell) <= 100
  const says = preview.data
  const elsewhere = says && spread.data && !group ? spread.data.people - says.people : 0
  const others = elsewhere > 0 ? ` ${people(elsewhere)} more have a limit from another source.` : ''
  return (
    <FormDialog
      id={id}
      title={changes ? 'Limit per person' : 'What people store'}
      size="lg"
      submit={drafts ? 'Add to draft' : 'Set limit'}
      busy={busy}
      ready={changes && !wrong && differs && set !== undefined && soundDays && soundPercent}
      trouble={trouble}
      send={() => (drafts ? toDraft() : void save())}
      close={close}
    >
      <div className="limitform">
        <Form.Group controlId={`${id}-whom`}>
          <Form.Label>For</Form.Label>
          <Form.Select
            value={group}
            onChange={(event) => {
              setGroup(event.target.value)
              setTyped(null)
              setAt(null)
            }}
          >
            <option value="">everybody in {accountName}</option>
            {groups?.map((each) => (
              <option key={each.code} value={each.code}>
                group {each.name}
              </option>
            ))}
          </Form.Select>
        </Form.Group>
        <Form.Group controlId={`${id}-limit`}>
          <Form.Label>Limit, GB</Form.Label>
          <Form.Control
            value={text}
            placeholder="none"
            inputMode="decimal"
            autoComplete="off"
            disabled={!changes}
            isInvalid={wrong}
            onChange={(event) => setTyped(event.target.value)}
          />
        </Form.Group>
        <Form.Group controlId={`${id}-then`}>
          <Form.Label>At the limit</Form.Label>
          <Form.Select
            value={what}
            disabled={!changes || parsed === null}
            onChange={(event) => put({ what: event.target.value as AtLimit })}
          >
            <option value="tell">tell only</option>
            <option value="stop">stop new writes</option>
            <option value="grace">stop after days of grace</option>
          </Form.Select>
        </Form.Group>
        {what === 'grace' && (
          <Field
            name="grace_days"
            label="Days of grace"
            value={days}
            onChange={(event: React.ChangeEvent<HTMLInputElement>) => put({ days: event.target.value })}
          />
        )}
        <Field
          name="tell_at"
          label="Tell from, %"
          value={tell}
          onChange={(event: React.ChangeEvent<HTMLInputElement>) => put({ tell: event.target.value })}
        />
      </div>
      <Distribution
        bands={bands.length ? bands : (spread.data?.bands ?? [])}
        perUnit={perUnit}
        limit={wrong ? null : parsed}
        was={shown}
        move={changes ? (grains) => setTyped(units(grains, perUnit).replaceAll('\u00a0', '')) : undefined}
      />
      <p className="say mb-1" aria-live="polite">
        {says === undefined
          ? '…'
          : says.people === 0
            ? 'Nobody stores anything under this limit yet.'
            : limit === null
              ? `${people(says.people)} without this limit; limits from other sources would put ${people(says.over)} over.`
              : `Of ${people(says.people)}, ${whole(says.over)} would be over it${says.over ? ` by ${roundUnits(says.beyond, perUnit)} GB in all` : ''}, and ${whole(says.near)} near it. Now: ${whole(says.over_now)} over, ${whole(says.near_now)} near.${others}`}
      </p>
      {spread.data && spread.data.people > 0 && (
        <div className="spread">
          <dl>
            <dt>Mean</dt>
            <dd>{gb(spread.data.mean, perUnit)}</dd>
            <dt>Median</dt>
            <dd>{gb(spread.data.median, perUnit)}</dd>
            <dt>90th percentile</dt>
            <dd>{gb(spread.data.ninetieth, perUnit)}</dd>
            <dt>People</dt>
            <dd>{whole(spread.data.people)}</dd>
          </dl>
          <table className="ledger tight" aria-label="Largest">
            <thead>
              <tr>
                <th>{says?.over && limit !== null ? 'Furthest over' : 'Largest'}</th>
                <th>Account</th>
                <th className="fig">GB</th>
                <th className="fig">
                  {says?.over && limit !== null ? 'Over by' : <span className="visually-hidden">Over by</span>}
                </th>
              </tr>
            </thead>
            <tbody>
              {(says?.over && limit !== null ? says.biggest : spread.data.biggest).map((each) => (
                <tr key={each.username}>
                  <td>{each.name}</td>
                  <td className="quiet">{each.account_name}</td>
                  <td className="fig">{roundUnits(each.size, perUnit)}</td>
                  <td className="fig over">{each.limit === null ? '' : overBy(each.size - each.limit, perUnit)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </FormDialog>
  )
}

const overBy = (grains: number, perUnit: number) => (grains < perUnit ? '<1' : roundUnits(grains, perUnit))
const people = (count: number) => `${whole(count)} ${count === 1 ? 'person' : 'people'}`
const gb = (grains: number, perUnit: number) => `${units(Math.round(grains / 100) * 100, perUnit)} GB`
