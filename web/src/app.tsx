import { t } from '@lingui/core/macro'
import { Trans } from '@lingui/react/macro'
import { useQuery, useQueryClient } from '@tanstack/react-query'
import { lazy, Suspense, useEffect, useRef, useState } from 'react'
import { NavLink, Route, Routes, useLocation, useNavigationType, NavigationType } from 'react-router'

import { home, Problem, type Schemas } from './api/client'
import { queries } from './api/queries'
import { useLive } from './api/live'
import { machine } from './api/where'
import { Button, loadFloating, Page, Sheet, Wrong } from './ui/basics'
import { Boundary } from './ui/boundary'
import { when } from './ui/format'
import { labelOf } from './ui/labels'

const Enrol = lazy(() => import('./pages/door').then((m) => ({ default: m.Enrol })))
const Join = lazy(() => import('./pages/door').then((m) => ({ default: m.Join })))
const SetUp = lazy(() => import('./pages/door').then((m) => ({ default: m.SetUp })))
const SignIn = lazy(() => import('./pages/door').then((m) => ({ default: m.SignIn })))
const Today = lazy(() => import('./pages/today').then((m) => ({ default: m.Today })))
const Tray = lazy(() => import('./pages/tray').then((m) => ({ default: m.Tray })))
const Rules = lazy(() => import('./pages/rules').then((m) => ({ default: m.Rules })))
const RulePage = lazy(() => import('./pages/rule').then((m) => ({ default: m.RulePage })))
const Register = lazy(() => import('./pages/register').then((m) => ({ default: m.Register })))
const FilingPage = lazy(() => import('./pages/filing').then((m) => ({ default: m.FilingPage })))
const Mail = lazy(() => import('./pages/mail').then((m) => ({ default: m.Mail })))
const Message = lazy(() => import('./pages/message').then((m) => ({ default: m.Message })))
const History = lazy(() => import('./pages/history').then((m) => ({ default: m.History })))
const PassPage = lazy(() => import('./pages/history').then((m) => ({ default: m.PassPage })))
const TopicPage = lazy(() => import('./pages/topic').then((m) => ({ default: m.TopicPage })))
const People = lazy(() => import('./pages/people').then((m) => ({ default: m.People })))
const YouPage = lazy(() => import('./pages/you').then((m) => ({ default: m.You })))
const Documents = lazy(() => import('./pages/documents').then((m) => ({ default: m.Documents })))
const How = lazy(() => import('./pages/how').then((m) => ({ default: m.How })))
const Palette = lazy(() => import('./ui/palette').then((m) => ({ default: m.Palette })))
const Settings = lazy(() => import('./pages/settings').then((m) => ({ default: m.Settings })))

export function App() {
  return (
    <Suspense fallback={null}>
      <Inside />
    </Suspense>
  )
}

/** The pages for those who are signed in, else the way in. */
function Inside() {
  const me = useQuery({ ...queries.me, retry: false })
  const setup = useQuery({ ...queries.setup, enabled: me.isError })
  const joining = useLocation().pathname === '/join'
  // Who has set up a second factor goes on seeing the recovery codes; from there the page is loaded anew.
  const [enrolling, setEnrolling] = useState('')
  if (me.data?.must_enrol && enrolling !== me.data.name) setEnrolling(me.data.name)
  if (me.isError && enrolling) setEnrolling('')
  if (joining) return <Join />
  if (me.data && enrolling === me.data.name) return <Enrol name={me.data.name} />
  if (me.data) return <House me={me.data} />
  if (me.isPending) return null
  if (me.error instanceof Problem && me.error.status !== 401)
    return (
      <main className="p-8">
        <Wrong error={me.error} />
        {machine && <Back />}
      </main>
    )
  if (machine) {
    window.location.assign('/') // one signs in at the machine that serves the pages
    return null
  }
  if (setup.data?.needed) return <SetUp />
  return setup.isPending ? null : <SignIn />
}

const tabs = [
  ['/', t`Today`],
  ['/tray', t`Tray`],
  ['/rules', t`Rules`],
  ['/mail', t`Mail`],
  ['/history', t`History`],
  ['/register', t`Register`],
  ['/settings', t`Settings`],
] as const

const pages = (role: string) => (role === 'administrator' ? [...tabs, ['/people', t`People`] as const] : tabs)

/** Leads back to the pages of the machine where people sign in. */
const Back = () => (
  <a href="/" className="text-pen hover:underline">
    <Trans>Back to the office</Trans>
  </a>
)

/** Leads to one's own page, at the machine where people sign in. */
const You = ({ name }: { name: string }) => (
  <a href="/you" className="text-pen hover:underline">
    {name}
  </a>
)

/** Says that the machine of these pages does not answer, and of when its copy is. */
function Away() {
  const one = useQuery(queries.machine).data
  if (!one || one.answers) return null
  return (
    <p role="status" className="mb-5 rounded-lg bg-seal-soft px-4 py-3 text-seal">
      <Trans>
        “{one.name}” does not answer. {one.copy_at ? t`These are its records as of ${when(one.copy_at)}. ` : ''}Nothing
        can be changed before it answers again.
      </Trans>
    </p>
  )
}

/** What administrators do most, for the palette. */
const actions = [
  { kind: t`Action`, name: t`Write a new rule`, to: '/rules/new' },
  { kind: t`Action`, name: t`Add a mailbox`, to: '/settings/mailboxes?add=mailbox' },
  { kind: t`Action`, name: t`Add a cabinet`, to: '/settings/cabinets?add=cabinet' },
]

const shortcuts = [
  [t`Ctrl K`, t`Go to a page, rule, mailbox, topic or number`],
  ['?', t`Show these shortcuts`],
  [t`Esc`, t`Close what is open`],
  ['↑ ↓', t`Go to the message above or below (on the page Mail)`],
  [t`Enter`, t`Open the message (on the page Mail)`],
  [t`Space`, t`Choose the message (on the page Mail)`],
  ['F', t`File the message (on the page Mail)`],
] as const

/** Says whether somebody is writing, so that a letter is no shortcut. */
const writes = (e: KeyboardEvent) =>
  e.target instanceof HTMLElement && (e.target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(e.target.tagName))

function Shortcuts({ onClose }: { onClose: () => void }) {
  return (
    <Sheet title={t`Keyboard shortcuts`} open onClose={onClose}>
      <dl className="grid grid-cols-[auto_1fr] gap-x-5 gap-y-2">
        {shortcuts.map(([keys, does]) => (
          <div key={keys} className="contents">
            <dt>
              <kbd className="rounded border border-line-2 bg-sheet-2 px-2 py-0.5 text-sm font-semibold whitespace-nowrap">
                {keys}
              </kbd>
            </dt>
            <dd>{does}</dd>
          </div>
        ))}
      </dl>
      <div className="mt-5 flex justify-end">
        <Button onClick={onClose}>
          <Trans>Close</Trans>
        </Button>
      </div>
    </Sheet>
  )
}

/** Opens the palette and the list of shortcuts by their keys. */
function useShortcuts() {
  const [shown, setShown] = useState<'palette' | 'shortcuts' | null>(null)
  useEffect(() => {
    const pressed = (e: KeyboardEvent) => {
      if ((e.ctrlKey || e.metaKey) && !e.altKey && !e.shiftKey && e.key.toLowerCase() === 'k') {
        e.preventDefault()
        setShown((now) => (now === 'palette' ? null : 'palette'))
      } else if (e.key === '?' && !e.ctrlKey && !e.metaKey && !writes(e)) {
        e.preventDefault()
        setShown('shortcuts')
      }
    }
    window.addEventListener('keydown', pressed)
    return () => window.removeEventListener('keydown', pressed)
  }, [])
  return [shown, setShown] as const
}

/** After going to another page, the keyboard begins at its top, and its tab is in view. */
function useFollow(where: string, hash: string) {
  const before = useRef(where)
  const how = useNavigationType()
  useEffect(() => {
    document.querySelector('nav[aria-label="Pages"] [aria-current="page"]')?.scrollIntoView({
      block: 'nearest',
      inline: 'center',
    })
    if (before.current === where) return
    before.current = where
    if (document.querySelector('[role=dialog]')) return // the keyboard is in it
    if (hash) return // it leads to a heading
    document.getElementById('page')?.focus({ preventScroll: true })
    if (how !== NavigationType.Pop) window.scrollTo(0, 0) // who goes back finds the page as it was left
  }, [where, hash, how])
}

function House({ me }: { me: Schemas['Me'] }) {
  useLive()
  useEffect(() => {
    const soon = loadFloating()
    return () => clearTimeout(soon)
  }, [])
  const [shown, setShown] = useShortcuts()
  const { pathname: where, hash } = useLocation()
  useFollow(where, hash)
  const client = useQueryClient()
  const tray = useQuery(queries.tray)
  const signOut = async () => {
    await home.DELETE('/api/v1/sessions/current')
    client.clear()
    window.location.assign('/')
  }
  return (
    <div className="mx-auto min-h-screen max-w-[120rem] md:grid md:grid-cols-[188px_minmax(0,1fr)]">
      <a href="#page" className="sr-only focus:not-sr-only focus:absolute focus:z-50 focus:bg-sheet focus:p-2">
        <Trans>To the page</Trans>
      </a>
      <header className="flex flex-col pt-5 md:sticky md:top-0 md:h-screen">
        <div className="flex items-center gap-2.5 px-6 pb-4 font-serif text-[21px] leading-none font-semibold tracking-tight md:pb-6">
          <Trans>
            <span
              aria-hidden
              className="relative block h-[17px] w-[22px] rounded-b-[5px] border-2 border-t-0 border-ink"
            >
              <span className="absolute inset-x-[3px] bottom-[7px] h-[2px] bg-seal" />
              <span className="absolute inset-x-[3px] bottom-[3px] h-[2px] bg-pen" />
            </span>
            Ink Tray
          </Trans>
        </div>
        {machine && (
          <p className="mx-4 mb-3 rounded-lg border border-line bg-sheet-2 px-3 py-2 text-sm text-ink-2 md:mr-3">
            <Trans>
              The machine
              <b className="block truncate text-[15px] font-semibold text-ink">{machine}</b>
              <Back />
            </Trans>
          </p>
        )}
        <nav aria-label={t`Pages`} className="flex overflow-x-auto md:block">
          {pages(me.role).map(([to, name]) => (
            <NavLink
              key={to}
              to={to}
              end={to === '/'}
              className={({ isActive }) =>
                `mb-[3px] flex shrink-0 items-center justify-between gap-2 rounded-t-[9px] border px-2.5 py-2.5 sm:px-4 md:rounded-l-[9px] md:rounded-tr-none md:border-r-0 md:pl-6 ${isActive ? 'relative z-10 -mb-px border-line bg-sheet font-semibold md:-mr-px md:mb-[3px]' : 'border-transparent font-medium text-ink-2 hover:text-ink'}`
              }
            >
              {name}
              {name === 'Tray' && !!tray.data?.count && (
                <span className="rounded-full bg-seal px-[7px] text-xs font-semibold text-on-seal">
                  {tray.data.count}
                  <span className="sr-only">
                    <Trans> waiting</Trans>
                  </span>
                </span>
              )}
            </NavLink>
          ))}
        </nav>
        <button
          className="mx-4 mt-3 hidden rounded-lg border border-line-2 px-3 py-1.5 text-left text-sm text-ink-2 hover:text-ink md:mr-3 md:block"
          onClick={() => setShown('palette')}
        >
          <Trans>
            Go to… <kbd className="float-right text-ink-3">Ctrl K</kbd>
          </Trans>
        </button>
        <div className="mt-auto hidden px-6 pb-5 text-[13px] text-ink-3 md:block">
          <NavLink to="/how" className="mb-2 block text-pen hover:underline">
            <Trans>How Ink Tray works</Trans>
          </NavLink>
          <You name={me.name} />
          <br />
          {labelOf(me.role)}
          <br />
          <button className="text-pen hover:underline" onClick={() => void signOut()}>
            <Trans>Sign out</Trans>
          </button>
        </div>
      </header>
      <main
        id="page"
        tabIndex={-1}
        className="min-w-0 border-line bg-sheet px-5 pt-6 pb-10 outline-none md:border-l md:px-9"
      >
        {machine && <Away />}
        {shown === 'shortcuts' && <Shortcuts onClose={() => setShown(null)} />}
        {shown === 'palette' && (
          <Suspense>
            <Palette
              pages={[
                ...pages(me.role).map(([to, name]) => ({ kind: t`Page`, name, to })),
                { kind: t`Page`, name: t`How Ink Tray works`, to: '/how' },
                { kind: t`Page`, name: t`Documents`, to: '/book/start' },
                ...(machine ? [] : [{ kind: t`Page`, name: t`You`, to: '/you' }]), // one's own page is at this machine
                ...(me.role === 'administrator' ? actions : []),
              ]}
              onClose={() => setShown(null)}
            />
          </Suspense>
        )}
        <Boundary where={where}>
          <Suspense
            fallback={
              <p role="status" className="text-ink-3">
                <Trans>Opening…</Trans>
              </p>
            }
          >
            <Routes>
              <Route path="/" element={<Today />} />
              <Route path="/tray" element={<Tray />} />
              <Route path="/rules" element={<Rules />} />
              <Route path="/rules/:id" element={<RulePage />} />
              <Route path="/register" element={<Register />} />
              <Route path="/register/:entry" element={<FilingPage />} />
              <Route path="/mail" element={<Mail />} />
              <Route path="/messages/:id" element={<Message />} />
              <Route path="/history" element={<History />} />
              <Route path="/history/:id" element={<PassPage />} />
              <Route path="/topics/:id" element={<TopicPage />} />
              <Route path="/settings/:section?" element={<Settings />} />
              <Route path="/people" element={<People />} />
              <Route path="/you" element={<YouPage />} />
              <Route path="/how" element={<How />} />
              <Route path="/book" element={<Documents />} />
              <Route path="/book/:page" element={<Documents />} />
              <Route path="/set-up" element={<Today />} />
              <Route
                path="*"
                element={
                  <Page title={t`There is no such page`} sub={t`The address may be mistyped.`}>
                    {null}
                  </Page>
                }
              />
            </Routes>
          </Suspense>
        </Boundary>
        <p className="mt-12 text-sm text-ink-3 md:hidden">
          <NavLink to="/how" className="text-pen hover:underline">
            <Trans>How Ink Tray works</Trans>
          </NavLink>{' '}
          · <You name={me.name} />{' '}
          <Button look="quiet" onClick={() => void signOut()}>
            <Trans>Sign out</Trans>
          </Button>
        </p>
      </main>
    </div>
  )
}
