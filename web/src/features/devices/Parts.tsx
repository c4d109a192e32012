import { Link } from 'react-router'

/** What is in use besides seats, one list beside the other. */
export function Parts({ at }: { at: 'devices' | 'sessions' | 'numbers' | 'keys' }) {
  const here = (part: string) => (part === at ? 'page' : undefined)
  return (
    <span className="seg" role="group" aria-label="Devices, sessions, numbers">
      <Link to="/devices" aria-current={here('devices')}>
        Devices
      </Link>
      <Link to="/sessions" aria-current={here('sessions')}>
        Sessions
      </Link>
      <Link to="/numbers" aria-current={here('numbers')}>
        Numbers
      </Link>
      <Link to="/keys" aria-current={here('keys')}>
        Keys
      </Link>
    </span>
  )
}
