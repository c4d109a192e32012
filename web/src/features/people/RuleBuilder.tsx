import { dayOf } from '../../domain/months'
import { Button, Form } from 'react-bootstrap'
import { ATTRIBUTES, OPERATORS, readBack, written, type Condition } from './peopleFilter'
import { DayField } from '../../components/DayField'

/** A rule as conditions to choose, for those who do not write SCIM's filter language, and as its text for those who do. */
export function RuleBuilder({
  rule,
  set,
  trouble,
  disabled,
}: {
  rule: string
  set: (rule: string) => void
  trouble: string
  disabled: boolean
}) {
  const built = readBack(rule)
  const change = (conditions: Condition[], join: 'and' | 'or') => set(written(conditions, join))
  const kindOf = (attribute: string) => ATTRIBUTES.find((each) => each.name === attribute)?.kind ?? 'text'
  const first = (attribute: string): Condition => ({
    attribute,
    operator: OPERATORS[kindOf(attribute)][0]?.[0] ?? 'eq',
    value:
      kindOf(attribute) === 'truth' ? 'true' : kindOf(attribute) === 'instant' ? dayOf(new Date().toISOString()) : '',
  })
  return (
    <fieldset className="rule mt-3" disabled={disabled}>
      <legend>Membership rule</legend>
      {built && (
        <>
          {built.conditions.map((each, at) => {
            const put = (next: Condition) =>
              change(
                built.conditions.map((old, n) => (n === at ? next : old)),
                built.join,
              )
            return (
              <div className="d-flex gap-2 mb-1 align-items-center" key={at}>
                {at === 0 ? (
                  <span className="joiner quiet">people whose</span>
                ) : (
                  <Form.Select
                    className="joiner"
                    aria-label="And, or"
                    value={built.join}
                    onChange={(event) => change(built.conditions, event.target.value as 'and' | 'or')}
                  >
                    <option value="and">and</option>
                    <option value="or">or</option>
                  </Form.Select>
                )}
                <Form.Select
                  aria-label={`Attribute of condition ${at + 1}`}
                  value={each.attribute}
                  onChange={(event) => put(first(event.target.value))}
                >
                  {ATTRIBUTES.map(({ name, label }) => (
                    <option key={name} value={name}>
                      {label}
                    </option>
                  ))}
                </Form.Select>
                <Form.Select
                  aria-label={`Comparison of condition ${at + 1}`}
                  value={each.operator}
                  onChange={(event) => put({ ...each, operator: event.target.value })}
                >
                  {OPERATORS[kindOf(each.attribute)].map(([name, label]) => (
                    <option key={name} value={name}>
                      {label}
                    </option>
                  ))}
                </Form.Select>
                {each.operator !== 'pr' &&
                  (kindOf(each.attribute) === 'truth' ? (
                    <Form.Select
                      aria-label={`Value of condition ${at + 1}`}
                      value={each.value}
                      onChange={(event) => put({ ...each, value: event.target.value })}
                    >
                      <option value="true">true</option>
                      <option value="false">false</option>
                    </Form.Select>
                  ) : kindOf(each.attribute) === 'instant' ? (
                    <DayField
                      aria-label={`Value of condition ${at + 1}`}
                      means="last"
                      value={each.value}
                      onDay={(value) => put({ ...each, value })}
                    />
                  ) : (
                    <Form.Control
                      aria-label={`Value of condition ${at + 1}`}
                      value={each.value}
                      onChange={(event) => put({ ...each, value: event.target.value })}
                    />
                  ))}
                <Button
                  variant="link"
                  size="sm"
                  aria-label={`Take condition ${at + 1} out`}
                  onClick={() =>
                    change(
                      built.conditions.filter((_, n) => n !== at),
                      built.join,
                    )
                  }
                >
                  ×
                </Button>
              </div>
            )
          })}
          <Button
            variant="link"
            size="sm"
            className="p-0"
            onClick={() => change([...built.conditions, first('title')], built.join)}
          >
            Add condition
          </Button>
        </>
      )}
      <Form.Group controlId="group-rule" className="mt-1">
        <Form.Label className="small quiet">
          As a SCIM filter (RFC 7644){!built && rule.trim() && '; it is too complex for the condition editor'}
        </Form.Label>
        <Form.Control
          as="textarea"
          rows={2}
          value={rule}
          spellCheck={false}
          isInvalid={trouble !== ''}
          aria-describedby={trouble ? 'rule-trouble' : undefined}
          onChange={(event) => set(event.target.value)}
        />
      </Form.Group>
      {trouble && (
        <p className="over small mb-0" role="alert" id="rule-trouble">
          {trouble}
        </p>
      )}
    </fieldset>
  )
}
