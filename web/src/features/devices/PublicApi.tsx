import { Modal } from 'react-bootstrap'
import text from '../../../../docs/public-api.md?raw'

/** How software begins, reports and ends, as whoever writes it needs it. */
export function PublicApi({ close }: { close: () => void }) {
  return (
    <Modal show onHide={close} animation={false} size="lg" scrollable aria-labelledby="public-api-title">
      <Modal.Header closeButton>
        <Modal.Title as="h2" id="public-api-title">
          Public API
        </Modal.Title>
      </Modal.Header>
      <Modal.Body>
        <pre className="small mb-0" tabIndex={0} style={{ whiteSpace: 'pre-wrap' }}>
          {text}
        </pre>
      </Modal.Body>
    </Modal>
  )
}
