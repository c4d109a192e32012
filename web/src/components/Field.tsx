import { Form } from 'react-bootstrap'
import { ApiError } from '../api/client'
import { DayField } from './DayField'

interface Props extends Omit<React.ComponentProps<typeof Form.Control>, 'size'> {
  name: string
  label: string
  /** What the server said of the form; it stands here if it names this field. */
  error?: unknown
  /** What the server calls it, where that is not its name here. */
  about?: string
  hint?: string
}

/** Whether the server's refusal is about a field. */
export function isAbout(error: unknown, name: string): error is ApiError {
  return error instanceof ApiError && error.body.where === name
}

const dayOrNone = (value: unknown) => (typeof value === 'string' ? value : '')

/** A labelled field of a form that is sent whole, with what is wrong with it. */
export function Field({ name, label, error, about, hint, ...more }: Props) {
  const wrong = isAbout(error, about ?? name)
  const said = wrong ? `${name}-said` : hint ? `${name}-hint` : undefined
  return (
    <Form.Group controlId={name}>
      <Form.Label>{label}</Form.Label>
      {more.type === 'date' ? (
        <DayField
          name={name}
          isInvalid={wrong}
          defaultValue={dayOrNone(more.defaultValue)}
          min={dayOrNone(more.min)}
          max={dayOrNone(more.max)}
          required={Boolean(more.required)}
          autoFocus={Boolean(more.autoFocus)}
          readOnly={Boolean(more.readOnly)}
          {...(said ? { 'aria-describedby': said } : {})}
        />
      ) : (
        <Form.Control name={name} isInvalid={wrong} aria-describedby={said} {...more} />
      )}
      {wrong ? (
        <div className="over small" id={`${name}-said`} role="alert">
          {error.message}
        </div>
      ) : (
        hint && (
          <div className="quiet small" id={`${name}-hint`}>
            {hint}
          </div>
        )
      )}
    </Form.Group>
  )
}

/** A text of a form. */
export function text(form: FormData, name: string): string {
  const value = form.get(name)
  return typeof value === 'string' ? value.trim() : ''
}
