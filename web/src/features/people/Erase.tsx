import { useState } from 'react'
import { Button, Modal } from 'react-bootstrap'
import { useNavigate } from 'react-router'
import { api, take } from '../../api/client'
import { useAction } from '../../api/useAction'
import { useCan } from '../../api/queries'
import { Trouble } from '../../components/States'
import type { PersonBody } from './queries'

/** Takes out all that is known of somebody who was removed. */
export function Erase({ body }: { body: PersonBody }) {
  const changes = useCan('people.change')
  const go = useNavigate()
  const [asked, setAsked] = useState(false)
  const { run, error } = useAction('log')
  const erase = async () => {
    await run(async () => {
      const params = { params: { path: { username: body.username } } }
      const found = await take(api.POST('/api/people/{username}/erase', params))
      setAsked(false)
      void go(`/people/${encodeURIComponent(found.username)}`, { replace: true })
    })
  }
  if (!changes || body.status !== 'removed' || body.username.startsWith('erased-')) return null
  return (
    <section aria-label="Erase">
      <h2 className="sub">Erase personal data</h2>
      <p className="quiet small mb-1">
        Name, address, title, department and username go for good, here and in the log. What they held stays counted.
      </p>
      <Button size="sm" variant="outline-primary" onClick={() => setAsked(true)}>
        Erase…
      </Button>
      {asked && (
        <Modal show onHide={() => setAsked(false)} animation={false} aria-labelledby="erase-title">
          <Modal.Header closeButton>
            <Modal.Title as="h2" id="erase-title">
              Erase personal data of {body.name}?
            </Modal.Title>
          </Modal.Header>
          <Modal.Body>
            They cannot be restored after that, and nobody can tell from here who they were.
            {error !== null && <Trouble error={error} />}
          </Modal.Body>
          <Modal.Footer>
            <Button variant="outline-primary" onClick={() => setAsked(false)}>
              Cancel
            </Button>
            <Button onClick={() => void erase()}>Erase</Button>
          </Modal.Footer>
        </Modal>
      )}
    </section>
  )
}
