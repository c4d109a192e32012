import { useQuery, useQueryClient } from '@tanstack/react-query'
import { lazy, Suspense, useMemo, useState } from 'react'
import { Button } from 'react-bootstrap'
import { BrowserRouter, Link, Navigate, NavLink, Route, Routes, useLocation, useNavigate } from 'react-router'
import { actAs, api, showAs, take } from '../api/client'
import { me, today, type Me } from '../api/queries'
import { Keys, Palette } from '../commands/Palette'
import { Registry, RegistryContext, useCommands, type Command } from '../commands/registry'
import { DraftBar } from '../features/drafts/DraftBar'
import { DraftProvider } from '../features/drafts/DraftProvider'
import { needsSomebody } from '../features/today/count'
import { Hatch } from '../components/Gauge'
import { NoSuchPage, Trouble, Wait } from '../components/States'
import { OutcomeProvider } from '../components/Outcome'
import { Mark } from '../components/Mark'
import { SignIn } from './SignIn'
import { useKeptFocus, useWhereabouts } from './useWhereabouts'

const RunningMenu = lazy(() => import('./Menus').then((part) => ({ default: part.RunningMenu })))
const OwnMenu = lazy(() => import('./Menus').then((part) => ({ default: part.OwnMenu })))
const TodayScreen = lazy(() => import('../features/today/TodayScreen'))
const AllocationsScreen = lazy(() => import('../features/allocations/AllocationsScreen'))
const SystemsScreen = lazy(() => import('../features/storage/SystemsScreen'))
const StorageScreen = lazy(() => import('../features/storage/StorageScreen'))
const StatementsScreen = lazy(() => import('../features/statements/StatementsScreen'))
const MarginsScreen = lazy(() => import('../features/statements/MarginsScreen'))
const PaymentsScreen = lazy(() => import('../features/statements/PaymentsScreen'))
const PricesScreen = lazy(() => import('../features/prices/PricesScreen'))
const StatementScreen = lazy(() => import('../features/statements/StatementScreen'))
const AccountScreen = lazy(() => import('../features/accounts/AccountScreen'))
const MailScreen = lazy(() => import('../features/log/MailScreen'))
const ProductScreen = lazy(() => import('../features/pools/ProductScreen'))
const PoolsScreen = lazy(() => import('../features/pools/PoolsScreen'))
const DraftsScreen = lazy(() => import('../features/drafts/DraftsScreen'))
const PeopleScreen = lazy(() => import('../features/people/PeopleScreen'))
const PersonScreen = lazy(() => import('../features/people/PersonScreen'))
const ImportScreen = lazy(() => import('../features/people/ImportScreen'))
const GroupsScreen = lazy(() => import('../features/people/GroupsScreen'))
const QueueScreen = lazy(() => import('../features/people/QueueScreen'))
const ReclaimScreen = lazy(() => import('../features/people/ReclaimScreen'))
const KeepPage = lazy(() => import('../features/people/KeepPage'))
const DomainsScreen = lazy(() => import('../features/people/DomainsScreen'))
const JoiningPage = lazy(() => import('../features/people/JoiningPage'))
const JoinPage = lazy(() => import('../features/people/JoinPage'))
const DevicesScreen = lazy(() => import('../features/devices/DevicesScreen'))
const SessionsScreen = lazy(() => import('../features/devices/SessionsScreen'))
const NumbersScreen = lazy(() => import('../features/devices/NumbersScreen'))
const KeysScreen = lazy(() => import('../features/devices/KeysScreen'))
const SetupPage = lazy(() => import('../features/setup/SetupPage'))
const PasswordPage = lazy(() => import('../features/setup/PasswordPage'))
const IntakeScreen = lazy(() => import('../features/setup/IntakeScreen'))
const OwnScreen = lazy(() => import('../features/own/OwnScreen'))
const DelegationsScreen = lazy(() => import('../features/delegations/DelegationsScreen'))
const ServerScreen = lazy(() => import('../features/log/ServerScreen'))
const LogScreen = lazy(() => import('../features/log/LogScreen'))

const RUNNING = 'fair-ladle-running'

/** Who is signed in decides: the screens, or the way in. */
export function App() {
  // Links lead to pages of their own, for people who are not signed in.
  const [, link = '', token] = /^\/(join|keep|joining|setup|password)(?:\/([\w-]+))?\/?$/.exec(location.pathname) ?? []
  const Page = { join: JoinPage, keep: KeepPage, joining: JoiningPage, setup: SetupPage, password: PasswordPage }[link]
  useKeptFocus()
  const who = useQuery({ ...me, enabled: Page === undefined })
  const [registry] = useState(() => new Registry())
  if (Page)
    return (
      <Suspense fallback={<Wait what="the page" />}>
        <Page token={token ?? ''} />
      </Suspense>
    )
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
  const can = useMemo(() => new Set(who.running.permissions), [who.running.permissions])
  useWhereabouts(who.running.name)
  const own = `/accounts/${encodeURIComponent(who.running.account)}`
  const commands = useMemo<Command[]>(() => {
    const screens: [string, string, string | undefined, string, string][] = [
      ['today', 'Today', 'g t', '/today', 'allocations.see'],
      ['allocations', 'Allocations', 'g a', '/allocations', 'allocations.see'],
      ['drafts', 'Drafts', 'g d', '/drafts', 'allocations.see'],
      ['pools', 'Pools', 'g p', '/pools', 'pools.see'],
      ['storage', 'Storage', 'g h', '/storage', 'allocations.see'],
      ['storage-systems', 'Storage systems', 'g y', '/storage-systems', 'devices.see'],
      ['account', 'Account', 'g c', `/accounts/${encodeURIComponent(who.running.account)}`, 'allocations.see'],
      ['people', 'People', 'g e', '/people', 'people.see'],
      ['idle', 'Idle seats', 'g i', '/idle', 'people.see'],
      ['domains', 'Self sign-up', 'g j', '/domains', 'people.see'],
      ['devices', 'Devices', 'g v', '/devices', 'devices.see'],
      ['sessions', 'Sessions', 'g o', '/sessions', 'devices.see'],
      ['numbers', 'Numbers', 'g n', '/numbers', 'devices.see'],
      ['activation-keys', 'Activation keys', 'g k', '/keys', 'devices.see'],
      ['queue', 'Waiting list', 'g w', '/queue', 'people.see'],
      ['groups', 'Groups', 'g r', '/groups', 'people.see'],
      ['statements', 'Statements', 'g s', '/statements', 'statements.see'],
      ['payments', 'Payments', 'g b', '/payments', 'statements.see'],
      ['margins', 'Margin', 'g f', '/margins', 'statements.see'],
      ['prices', 'Prices', 'g q', '/prices', 'statements.see'],
      ['delegations', 'Delegations', 'g m', '/delegations', 'delegations.see'],
      ['log', 'Log', 'g l', '/log', 'log.see'],
      ...(who.running.kind === 'operator'
        ? ([
            ['server', 'Server', 'g x', '/server', 'server.see'],
            ['intake', 'Import an intake', undefined, '/intake', 'products.change'],
          ] as [string, string, string | undefined, string, string][])
        : []),
    ]
    return [
      ...screens
        .filter(([, , , , permission]) => can.has(permission))
        .map(([id, name, keys, to]) => ({ id, name, keys, group: 'Go to', run: () => void go(to) })),
      ...(
        [
          ['buy', 'Buy licences or storage', '/pools?new=lot', 'pools.see', 'drafts.change'],
          ['new-client', 'New client or department', `${own}?new=account`, 'allocations.see', 'accounts.change'],
          ['add-person', 'Add a person', '/people?new=person', 'people.see', 'people.invite'],
          ['import-people', 'Import people', '/people-import', 'people.see', 'people.change'],
          ['share', 'Share out seats', '/allocations?share=yes', 'allocations.see', 'drafts.change'],
          ['export-log', 'Search the log', '/log', 'log.see', 'log.see'],
        ] as const
      )
        .filter(([, , , ...needs]) => needs.every((each) => can.has(each)))
        .map(([id, name, to]) => ({ id: `do-${id}`, name, group: 'Do', run: () => void go(to) })),
      { id: 'own', name: 'Your sign-in', group: 'Go to', run: () => void go('/own') },
      { id: 'palette', name: 'Go anywhere', keys: 'Ctrl K', group: 'Help', run: () => setPalette(true) },
      { id: 'keys', name: 'Keys', keys: '?', group: 'Help', run: () => setKeys(true) },
    ]
  }, [go, own, who.running.account, who.running.kind, can])
  useCommands(commands)
  const home = who.lacks_second_factor
    ? '/own'
    : can.has('allocations.see')
      ? '/today'
      : can.has('statements.see')
        ? '/statements'
        : can.has('people.see')
          ? '/people'
          : can.has('pools.see')
            ? '/pools'
            : '/devices'
  const run = (account: string) => {
    sessionStorage.setItem(RUNNING, account)
    actAs(who.csrf_token, account)
    void queries.resetQueries()
  }
  const leave = async () => {
    await queries.cancelQueries()
    await take(api.POST('/api/sign-out'))
    sessionStorage.removeItem(RUNNING)
    actAs('', '')
    // The page goes with all that was read: asking for any of it again would be refused.
    location.assign('/')
  }
  return (
    <div className="app">
      <a className="skip" href="#screen">
        Skip to content
      </a>
      <Hatch />
      <header className="top">
        <NavLink className="mark" to={home}>
          <Mark /> Fair Ladle
        </NavLink>
        <span className="running">
          <span className="quiet small">Account</span>
          {who.delegations.length > 1 ? (
            <Suspense fallback={<b>{who.running.name}</b>}>
              <RunningMenu who={who} toAccount={can.has('allocations.see') ? () => void go(own) : null} run={run} />
            </Suspense>
          ) : (
            <b>{can.has('allocations.see') ? <Link to={own}>{who.running.name}</Link> : who.running.name}</b>
          )}
        </span>
        <span className="grow" />
        <button type="button" className="find" onClick={() => setPalette(true)}>
          Go anywhere <kbd>Ctrl K</kbd>
        </button>
        <Suspense fallback={<span>{who.name}</span>}>
          <OwnMenu who={who} go={(to) => void go(to)} keys={() => setKeys(true)} leave={() => void leave()} />
        </Suspense>
      </header>
      {who.shown_as && (
        <div className="shownas" role="status">
          <span>
            Preview as <b>{who.shown_as}</b> of <b>{who.running.name}</b>, read only.
          </span>
          <Button
            size="sm"
            variant="outline-primary"
            onClick={() => {
              showAs(null)
              location.assign('/delegations')
            }}
          >
            Exit preview
          </Button>
        </div>
      )}
      <nav className="side" aria-label="Screens">
        {can.has('allocations.see') && (
          <>
            <NavLink to="/today">
              Today <TodayCount />
            </NavLink>
            <NavLink to="/allocations">Allocations</NavLink>
            <NavLink to="/drafts">Drafts</NavLink>
          </>
        )}
        <hr />
        {can.has('pools.see') ? (
          <Family to="/pools" also={['/storage', '/storage-systems', '/products']}>
            Pools
          </Family>
        ) : (
          can.has('allocations.see') && <NavLink to="/storage">Storage</NavLink>
        )}
        {can.has('people.see') && (
          <Family to="/people" also={['/people-import', '/groups', '/queue', '/idle', '/domains']}>
            People
          </Family>
        )}
        {can.has('devices.see') && (
          <Family to="/devices" also={['/sessions', '/numbers', '/keys']}>
            Devices
          </Family>
        )}
        {can.has('statements.see') && (
          <Family to="/statements" also={['/payments', '/margins', '/prices']}>
            Statements
          </Family>
        )}
        <hr />
        {can.has('delegations.see') && <NavLink to="/delegations">Delegations</NavLink>}
        {can.has('log.see') && (
          <Family to="/log" also={['/mail']}>
            Log
          </Family>
        )}
      </nav>
      <main className="screen" id="screen" tabIndex={-1} key={who.running.account}>
        <OutcomeProvider>
          <DraftProvider>
            <Suspense fallback={<Wait what="the screen" />}>
              <Routes>
                <Route path="/today" element={<TodayScreen />} />
                <Route path="/allocations" element={<AllocationsScreen />} />
                <Route path="/statements" element={<StatementsScreen />} />
                <Route path="/statements/:buyer" element={<StatementScreen />} />
                <Route path="/payments" element={<PaymentsScreen />} />
                <Route path="/margins" element={<MarginsScreen />} />
                <Route path="/prices" element={<PricesScreen />} />
                <Route path="/accounts/:account" element={<AccountScreen />} />
                <Route path="/people" element={<PeopleScreen />} />
                <Route path="/devices" element={<DevicesScreen />} />
                <Route path="/sessions" element={<SessionsScreen />} />
                <Route path="/numbers" element={<NumbersScreen />} />
                <Route path="/keys" element={<KeysScreen />} />
                <Route path="/domains" element={<DomainsScreen />} />
                <Route path="/people-import" element={<ImportScreen />} />
                <Route path="/people-import/:number" element={<ImportScreen />} />
                <Route path="/people/:username" element={<PersonScreen />} />
                <Route path="/groups" element={<GroupsScreen />} />
                <Route path="/idle" element={<ReclaimScreen />} />
                <Route path="/queue" element={<QueueScreen />} />
                <Route path="/mail" element={<MailScreen />} />
                <Route path="/pools" element={<PoolsScreen />} />
                <Route path="/storage" element={<StorageScreen />} />
                <Route path="/storage-systems" element={<SystemsScreen />} />
                <Route path="/products/:product" element={<ProductScreen />} />
                <Route path="/drafts" element={<DraftsScreen />} />
                <Route path="/log" element={<LogScreen />} />
                <Route path="/own" element={<OwnScreen />} />
                <Route path="/delegations" element={<DelegationsScreen />} />
                <Route path="/server" element={<ServerScreen />} />
                <Route path="/intake" element={<IntakeScreen />} />
                <Route path="/" element={<Navigate to={home} replace />} />
                <Route path="*" element={<NoSuchPage path={place.pathname} home={home} />} />
              </Routes>
            </Suspense>
            <DraftBar />
          </DraftProvider>
        </OutcomeProvider>
      </main>
      <Palette show={palette} setShow={setPalette} go={(to) => void go(to)} />
      <Keys show={keys} onHide={() => setKeys(false)} />
    </div>
  )
}

function TodayCount() {
  const found = useQuery(today)
  if (!found.data) return null
  const count = needsSomebody(found.data)
  return count ? (
    <em>
      <span className="visually-hidden">items that need attention: </span>
      {count}
    </em>
  ) : null
}

/** A link of the side that stands for several screens. */
function Family({ to, also, children }: { to: string; also: string[]; children: React.ReactNode }) {
  const { pathname } = useLocation()
  const here = [to, ...also].some((each) => pathname === each || pathname.startsWith(`${each}/`))
  return (
    <Link to={to} className={here ? 'active' : undefined} aria-current={here ? 'page' : undefined}>
      {children}
    </Link>
  )
}
