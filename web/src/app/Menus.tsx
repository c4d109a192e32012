import { Dropdown } from 'react-bootstrap'
import type { Me } from '../api/queries'
import { chooseLight, chosenLight, type Light } from './theme'

/** The account that is run, to choose another one of one's own. */
export function RunningMenu({
  who,
  toAccount,
  run,
}: {
  who: Me
  toAccount: (() => void) | null
  run: (account: string) => void
}) {
  return (
    <Dropdown>
      <Dropdown.Toggle variant="link" id="running" className="p-0">
        {who.running.name}
      </Dropdown.Toggle>
      <Dropdown.Menu>
        {toAccount && (
          <>
            <Dropdown.Item as="button" onClick={toAccount}>
              Account page
            </Dropdown.Item>
            <Dropdown.Divider />
          </>
        )}
        {who.delegations.map((each) => (
          <Dropdown.Item
            key={each.account}
            as="button"
            active={each.account === who.running.account}
            onClick={() => run(each.account)}
          >
            {each.name}
          </Dropdown.Item>
        ))}
      </Dropdown.Menu>
    </Dropdown>
  )
}

/** One's name: theme, own sign-in, keys, and the way out. */
export function OwnMenu({
  who,
  go,
  keys,
  leave,
}: {
  who: Me
  go: (to: string) => void
  keys: () => void
  leave: () => void
}) {
  return (
    <Dropdown align="end">
      <Dropdown.Toggle variant="link" id="me" className="p-0" style={{ color: 'var(--ink)', fontWeight: 400 }}>
        {who.name}
      </Dropdown.Toggle>
      <Dropdown.Menu>
        <Dropdown.ItemText className="quiet small">{who.email}</Dropdown.ItemText>
        <Dropdown.Divider />
        {(['system', 'light', 'dark'] as Light[]).map((each) => (
          <Dropdown.Item key={each} as="button" active={chosenLight() === each} onClick={() => chooseLight(each)}>
            {{ system: 'System theme', light: 'Light theme', dark: 'Dark theme' }[each]}
          </Dropdown.Item>
        ))}
        <Dropdown.Divider />
        {who.running.kind === 'operator' && (
          <>
            <Dropdown.Item as="button" onClick={() => go('/intake')}>
              Import an intake
            </Dropdown.Item>
            <Dropdown.Item as="button" onClick={() => go('/server')}>
              Server
            </Dropdown.Item>
          </>
        )}
        <Dropdown.Item as="button" onClick={() => go('/own')}>
          Your sign-in
        </Dropdown.Item>
        <Dropdown.Item as="button" onClick={keys}>
          Keys
        </Dropdown.Item>
        <Dropdown.Item as="button" onClick={leave}>
          Sign out
        </Dropdown.Item>
      </Dropdown.Menu>
    </Dropdown>
  )
}
