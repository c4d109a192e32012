import { useState } from 'react'
import { useAction } from '../../api/useAction'
import { useNavigate } from 'react-router'
import { Button, Form, Modal } from 'react-bootstrap'
import { useQuery } from '@tanstack/react-query'
import { api, ApiError, take } from '../../api/client'
import { cell as cellQuery, me as meQuery } from '../../api/queries'
import { clockTime, dayName } from '../../domain/months'
import { useFocusWhenReady } from '../../components/useFocusWhenReady'
import { useOutcome } from '../../components/Outcome'
import { WhyForm } from '../../components/AskInstead'
import { AskForm } from '../requests/AskForm'
import { ChangesTable } from './ChangesTable'
import { Clashes } from './Clashes'
import { useDraft } from './context'
import { EffectPanel } from './EffectPanel'
import type { Names } from './names'
import { beginOf, Purchases } from './Purchases'
import { DayField } from '../../components/DayField'

/** Everything about the draft in one place: what it changes, what that does, and applying it now or on a day. */
export function Review({ names, close }: { names: Names; close: () => void }) {
  const draft = useDraft()
  const { facts, effect, count } = draft
  const [day, setDay] = useState(draft.meantFor)
  const [email, setEmail] = useState('')
  const [note, setNote] = useState('')
  const outcome = useOutcome()
  const go = useNavigate()
  const { run: act, said, busy, error } = useAction()
  const [asked, setAsked] = useState('')
  const toAsk =
    !asked && error instanceof ApiError && error.body.type === 'urn:fair-ladle:not-available'
      ? { above: error.body.ask as string, products: error.body.products as string[] }
      : null
  const run = async (work: () => Promise<unknown>, done?: string) => {
    setAsked('')
    await act(async () => {
      await work()
      if (!done) close()
      return done
    })
  }
  // Whoever came by the keyboard applies with Enter, once it is known what that does.
  const ready = Boolean(effect?.may_apply) && !busy && !draft.busy
  const applies = useFocusWhenReady(ready)
  const path = (id: number) => ({ params: { path: { draft_id: id } } })
  const changes = `${count} ${count === 1 ? 'change' : 'changes'}`
  const notified = effect?.notifies.length
    ? `, ${effect.notifies.length} ${effect.notifies.length === 1 ? 'person' : 'people'} notified`
    : ''
  const reverse = async (id: number) => {
    await take(api.POST('/api/drafts/{draft_id}/reverse', path(id)))
    draft.open(null)
    void go('/allocations')
  }
  const apply = () =>
    run(() =>
      draft.settle(async (id, revision) => {
        const done = await take(api.POST('/api/drafts/{draft_id}/apply', { ...path(id), body: { revision, note } }))
        outcome(`Applied ${done.applied_at ? clockTime(done.applied_at) : ''}: ${changes}${notified}.`, {
          label: 'Reverse',
          run: () => void reverse(id),
        })
      }, true),
    )
  const schedule = () =>
    run(() =>
      draft.settle(async (id, revision) => {
        await take(api.POST('/api/drafts/{draft_id}/schedule', { ...path(id), body: { revision, day } }))
        outcome(`Scheduled for ${dayName(day)}: ${changes}.`)
      }, true),
    )
  const askFor = (reason: string) =>
    run(() =>
      draft.settle(
        (id, revision) => take(api.POST('/api/drafts/{draft_id}/ask', { ...path(id), body: { revision, reason } })),
        true,
      ),
    )
  const share = () =>
    run(
      () =>
        draft
          .settle((id) => take(api.POST('/api/drafts/{draft_id}/share', { ...path(id), body: { email } })), false)
          .then(() => {
            setEmail('')
          }),
      `${email} can see and edit this draft now.`,
    )
  const rename = (name: string) =>
    run(
      () =>
        draft
          .settle(
            (id, revision) =>
              take(
                api.PATCH('/api/drafts', {
                  body: { draft: id, revision, name, put: [], forget: [], look_at: null, bare: true, shown: [] },
                }),
              ),
            false,
          )
          .then(() => {
            draft.open(facts?.mine ? null : (facts?.id ?? null))
          }),
      'Renamed.',
    )
  return (
    <Modal show onHide={close} animation={false} size="xl" aria-labelledby="review-title" scrollable>
      <Modal.Header closeButton>
        <Modal.Title as="h2" id="review-title">
          {count} {count === 1 ? 'change' : 'changes'} in {facts?.name ?? 'the draft'}
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        {effect && <Clashes effect={effect} names={names} />}
        <ChangesTable
          changes={draft.changes}
          effect={effect}
          names={names}
          people={facts?.people ?? {}}
          forget={draft.forget}
        />
        <Purchases changes={draft.changes} names={names} />
        {effect && <EffectPanel effect={effect} names={names} begins={beginOf(draft.changes)} />}
        <div className="draftfacts">
          <Form
            onSubmit={(event) => {
              event.preventDefault()
              void rename(new FormData(event.currentTarget).get('name') as string)
            }}
          >
            <Form.Label htmlFor="draft-name">Name</Form.Label>
            <div className="d-flex gap-2">
              <Form.Control id="draft-name" name="name" defaultValue={facts?.name ?? ''} maxLength={200} />
              <Button type="submit" variant="outline-primary" disabled={busy}>
                Rename
              </Button>
            </div>
          </Form>
          <Form
            onSubmit={(event) => {
              event.preventDefault()
              void share()
            }}
          >
            <Form.Label htmlFor="draft-share">
              Share with{' '}
              {facts && facts.shared_with.length > 0 && (
                <span className="quiet">(so far: {facts.shared_with.join(', ')})</span>
              )}
            </Form.Label>
            <div className="d-flex gap-2">
              <Form.Control
                id="draft-share"
                type="email"
                placeholder="colleague's e-mail address"
                value={email}
                onChange={(event) => setEmail(event.target.value)}
              />
              <Button type="submit" variant="outline-primary" disabled={busy || !email}>
                Share
              </Button>
            </div>
          </Form>
        </div>
        {effect && effect.notifies.length > 0 && (
          <Form.Group controlId="draft-note" className="mt-2">
            <Form.Label>Note to those notified (optional, when applied now)</Form.Label>
            <Form.Control value={note} maxLength={1000} onChange={(event) => setNote(event.target.value)} />
          </Form.Group>
        )}
        {asked ? (
          <p className="good mt-2" role="status">
            {asked}
          </p>
        ) : (
          said && (
            <p className={said.bad ? 'over mt-2' : 'good mt-2'} role={said.bad ? 'alert' : 'status'}>
              {said.text}
            </p>
          )
        )}
        {toAsk && (
          <AskAbove
            {...toAsk}
            names={names}
            asked={(product) =>
              setAsked(`${toAsk.above} was asked for more ${product}. The draft is kept under Drafts.`)
            }
          />
        )}
        {effect?.above && (
          <>
            <p className="over mt-2 mb-0" role="alert">
              {effect.above}
            </p>
            <WhyForm label="Reason for the request" send="Send request" ask={askFor} />
          </>
        )}
        {effect && !effect.may_apply && !effect.above && effect.faults.length === 0 && effect.clashes.length === 0 && (
          <p className="over mt-2" role="alert">
            Cannot be applied:{' '}
            {effect.breaches.find((each) => each.hard && each.day === null && ['new', 'worse'].includes(each.label))
              ?.sentence ?? 'it breaks a limit outside your branch.'}
          </p>
        )}
      </Modal.Body>
      <Modal.Footer>
        <Button variant="outline-primary" onClick={close}>
          Back
        </Button>
        <span className="grow" />
        <Form
          className="d-flex gap-2 align-items-center"
          onSubmit={(event) => {
            event.preventDefault()
            void schedule()
          }}
        >
          <Form.Label htmlFor="draft-day" className="m-0">
            or on
          </Form.Label>
          <DayField id="draft-day" value={day} onDay={setDay} />
          <Button
            ref={draft.meantFor ? applies : undefined}
            type="submit"
            variant={draft.meantFor ? 'primary' : 'outline-primary'}
            disabled={busy || !day || (draft.meantFor !== '' && !ready)}
          >
            Apply on that day
          </Button>
        </Form>
        <Button
          ref={draft.meantFor ? undefined : applies}
          variant={draft.meantFor ? 'outline-primary' : 'primary'}
          onClick={() => void apply()}
          disabled={!ready}
        >
          {busy ? 'Applying…' : 'Apply now'}
        </Button>
      </Modal.Footer>
    </Modal>
  )
}

/** Where only something above one's branch is short: ask for it from here, of which product one chooses. */
function AskAbove({
  above,
  products,
  names,
  asked,
}: {
  above: string
  products: string[]
  names: Names
  asked: (product: string) => void
}) {
  const me = useQuery(meQuery)
  const [chosen, setChosen] = useState<string | null>(products.length === 1 ? (products[0] ?? null) : null)
  const account = me.data?.running?.account
  const pool = chosen === null ? undefined : names.pool(chosen)
  const mine = useQuery({ ...cellQuery(account ?? '', chosen ?? ''), enabled: Boolean(account && chosen) }).data
  if (!account) return null
  return pool && mine ? (
    <AskForm
      account={account}
      product={pool.product}
      productName={pool.name}
      unit={pool.unit}
      perUnit={pool.per_unit}
      capped={mine.version?.cap != null}
      done={(sent) => (sent ? asked(pool.name) : setChosen(null))}
    />
  ) : (
    <div className="d-flex gap-2 flex-wrap">
      {products.map((product) => (
        <Button key={product} size="sm" variant="outline-primary" onClick={() => setChosen(product)}>
          Ask {above} for {names.product(product)}
        </Button>
      ))}
    </div>
  )
}
