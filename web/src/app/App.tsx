import { useQuery, useQueryClient } from '@tanstack/react-query'
import { lazy, Suspense, useMemo, useState } from 'react'
import { Dropdown } from 'react-bootstrap'
import { BrowserRouter, Navigate, NavLink, Route, Routes, useLocation, useNavigate } from 'react-router'
import { actAs, api, take } from '../api/client'
import { me, today, type Me } from '../api/queries'
import { Keys, Palette } from '../commands/Palette'
import { Registry, RegistryContext, useCommands, type Command } from '../commands/registry'
import { AllocationsScreen } from '../features/allocations/AllocationsScreen'
import { DraftBar } from '../features/drafts/DraftBar'
import { DraftProvider } from '../features/drafts/DraftProvider'
import { needsSomebody } from '../features/today/count'
import { Hatch } from '../parts/Gauge'
import { Trouble, Wait } from '../parts/States'
import { chooseLight, chosenLight, type Light } from './light'
import { Mark } from './Mark'
import { SignIn } from './SignIn'

const TodayScreen = lazy(() => import('../features/today/TodayScreen'))
const StatementsScreen = lazy(() => import('../features/statements/StatementsScreen'))
const StatementScreen = lazy(() => import('../features/statements/StatementScreen'))
const AccountScreen = lazy(() => import('../features/accounts/AccountScreen'))
const MailScreen = lazy(() => import('../features/log/MailScreen'))
const PoolsScreen = lazy(() => import('../features/pools/PoolsScreen'))
const DraftsScreen = lazy(() => import('../features/drafts/DraftsScreen'))
const LogScreen = lazy(() => import('../features/log/LogScreen'))

const RUNNING = 'fair-ladle-running'

/** Who is signed in decides: the screens, or the way in. */
export function App() {
  const who = useQuery(me)
  const [registry] = useState(() => new Registry())
  if (who.isPending) return <Wait what="who you are" />
  if (who.isError) return <Trouble error={who.error} again={() => void who.refetch()} />
  if (!who.data) return <SignIn />
  actAs(who.data.csrf_token, sessionStorage.getItem(RUNNING) ?? '')
  return (
    <RegistryContext value={registry}>
      <BrowserRouter>
        <Shell who={who.data} />
      </BrowserRouter>
    </RegistryContext>
  )
}

function Shell({ who }: { who: Me }) {
  const go = useNavigate()
  const place = useLocation()
  const queries = useQueryClient()
  const [palette, setPalette] = useState(false)
  const [keys, setKeys] = useState(false)
  const commands = useMemo<Command[]>(
    () => [
      { id: 'today', name: 'Today', keys: 'g t', group: 'Go to', run: () => void go('/today') },
      { id: 'allocations', name: 'Allocations', keys: 'g a', group: 'Go to', run: () => void go('/allocations') },
      { id: 'drafts', name: 'Drafts', keys: 'g d', group: 'Go to', run: () => void go('/drafts') },
      { id: 'pools', name: 'Pools', keys: 'g p', group: 'Go to', run: () => void go('/pools') },
      { id: 'account', name: 'Account', keys: 'g c', group: 'Go to', run: () => void go(`/accounts/${encodeURIComponent(who.running.account)}`) },
      { id: 'statements', name: 'Statements', keys: 'g s', group: 'Go to', run: () => void go('/statements') },
      { id: 'log', name: 'Log', keys: 'g l', group: 'Go to', run: () => void go('/log') },
      { id: 'palette', name: 'Go anywhere', keys: 'Ctrl K', group: 'Help', run: () => setPalette(true) },
      { id: 'keys', name: 'Keys', keys: '?', group: 'Help', run: () => setKeys(true) },
    ],
    [go, who.running.account],
  )
  useCommands(commands)
  const run = (account: string) => {
    sessionStorage.setItem(RUNNING, account)
    actAs(who.csrf_token, account)
    void queries.resetQueries()
  }
  const leave = async () => {
    await take(api.POST('/api/sign-out'))
    sessionStorage.removeItem(RUNNING)
    actAs('', '')
    queries.clear()
    await queries.resetQueries()
    location.assign('/')
  }
  return (
    <div className="app">
      <a className="skip" href="#screen">To the screen</a>
      <Hatch />
      <header className="top">
        <NavLink className="mark" to="/today"><Mark /> Fair Ladle</NavLink>
        <span className="running">
          <span className="quiet small">Running</span>
          {who.delegations.length > 1 ? (
            <Dropdown>
              <Dropdown.Toggle variant="link" id="running" className="p-0">{who.running.name}</Dropdown.Toggle>
              <Dropdown.Menu>
                {who.delegations.map((each) => (
                  <Dropdown.Item key={each.account} as="button" active={each.account === who.running.account} onClick={() => run(each.account)}>{each.name}</Dropdown.Item>
                ))}
              </Dropdown.Menu>
            </Dropdown>
          ) : (
            <b>{who.running.name}</b>
          )}
        </span>
        <span className="grow" />
        <button type="button" className="find" onClick={() => setPalette(true)}>Go anywhere <kbd>Ctrl K</kbd></button>
        <Dropdown align="end">
          <Dropdown.Toggle variant="link" id="me" className="p-0" style={{ color: 'var(--ink)', fontWeight: 400 }}>{who.name}</Dropdown.Toggle>
          <Dropdown.Menu>
            <Dropdown.ItemText className="quiet small">{who.email}</Dropdown.ItemText>
            <Dropdown.Divider />
            {(['system', 'light', 'dark'] as Light[]).map((each) => (
              <Dropdown.Item key={each} as="button" active={chosenLight() === each} onClick={() => chooseLight(each)}>
                {{ system: 'Light as the system has it', light: 'Light', dark: 'Dark' }[each]}
              </Dropdown.Item>
            ))}
            <Dropdown.Divider />
            <Dropdown.Item as="button" onClick={() => setKeys(true)}>Keys</Dropdown.Item>
            <Dropdown.Item as="button" onClick={() => void leave()}>Sign out</Dropdown.Item>
          </Dropdown.Menu>
        </Dropdown>
      </header>
      <nav className="side" aria-label="Screens">
        <NavLink to="/today">Today <TodayCount /></NavLink>
        <NavLink to="/allocations">Allocations</NavLink>
        <NavLink to="/drafts">Drafts</NavLink>
        <NavLink to="/pools">Pools</NavLink>
        <NavLink to={`/accounts/${encodeURIComponent(who.running.account)}`}>Account</NavLink>
        <NavLink to="/statements">Statements</NavLink>
        <hr />
        <NavLink to="/log">Log</NavLink>
        {who.demo && <NavLink to="/mail">Mail</NavLink>}
      </nav>
      <main className="screen" id="screen" tabIndex={-1} key={who.running.account}>
        <DraftProvider>
          <Suspense fallback={<Wait what="the screen" />}>
            <Routes>
              <Route path="/today" element={<TodayScreen />} />
              <Route path="/allocations" element={<AllocationsScreen />} />
              <Route path="/statements" element={<StatementsScreen />} />
              <Route path="/statements/:buyer" element={<StatementScreen />} />
              <Route path="/accounts/:account" element={<AccountScreen />} />
              <Route path="/mail" element={<MailScreen />} />
              <Route path="/pools" element={<PoolsScreen />} />
              <Route path="/drafts" element={<DraftsScreen />} />
              <Route path="/log" element={<LogScreen />} />
              <Route path="*" element={<Navigate to="/today" replace state={{ from: place.pathname }} />} />
            </Routes>
          </Suspense>
          <DraftBar />
        </DraftProvider>
      </main>
      <Palette show={palette} setShow={setPalette} onAccount={(code) => void go(`/accounts/${encodeURIComponent(code)}`)} />
      <Keys show={keys} onHide={() => setKeys(false)} />
    </div>
  )
}

function TodayCount() {
  const found = useQuery(today)
  if (!found.data) return null
  const count = needsSomebody(found.data)
  return count ? <em><span className="visually-hidden">things that need somebody: </span>{count}</em> : null
}
