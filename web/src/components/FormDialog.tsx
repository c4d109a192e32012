import { Button, Form, Modal } from 'react-bootstrap'

/** A dialog that is one form: its fields, what went wrong with it as a whole, and sending it or leaving. */
export function FormDialog({
  id,
  title,
  size,
  submit,
  busy,
  ready = true,
  trouble,
  send,
  close,
  children,
}: {
  id: string
  title: string
  size?: 'lg' | 'xl'
  /** What the button says that sends it. */
  submit: string
  busy: boolean
  /** Whether there is anything to send. */
  ready?: boolean
  /** What was refused and is not about one field. */
  trouble?: string | false | undefined
  send: (form: FormData) => void
  close: () => void
  children: React.ReactNode
}) {
  return (
    <Modal show onHide={close} animation={false} {...(size && { size })} aria-labelledby={`${id}-title`}>
      <Form
        onSubmit={(event) => {
          event.preventDefault()
          send(new FormData(event.currentTarget))
        }}
      >
        <Modal.Header closeButton>
          <Modal.Title as="h2" id={`${id}-title`}>
            {title}
          </Modal.Title>
        </Modal.Header>
        <Modal.Body>
          {children}
          {trouble && (
            <p className="over mt-2 mb-0" role="alert">
              {trouble}
            </p>
          )}
        </Modal.Body>
        <Modal.Footer>
          <Button variant="outline-primary" onClick={close}>
            Cancel
          </Button>
          <Button type="submit" disabled={busy || !ready}>
            {submit}
          </Button>
        </Modal.Footer>
      </Form>
    </Modal>
  )
}
