import { QueryClientProvider } from "@tanstack/react-query"
import { lazy, Suspense, useEffect, useState } from "react"
import { createRoot } from "react-dom/client"
import { Link, Route, Switch, useLocation } from "wouter"
import { queries, Refusal, signIn, signOut, useDefaults, useStatus } from "./api"
import { useChanges, useLost } from "./live"
import { Bring } from "./Bring"
import { Engines } from "./Engines"
import { Fleet } from "./Fleet"
import { ErrorsPage } from "./Errors"
import { FleetFile } from "./FleetFile"
import { HostingPage } from "./Hosting"
import { InfoPage } from "./Info"
import { CMSPage } from "./CMS"
import { LogsPage } from "./Logs"
import { PartsPage } from "./Parts"
import { RestorePage } from "./Restore"
import { Machine } from "./Machine"
import { MailPage } from "./Mail"
import { GuestsPage } from "./Guests"
import { ScreensPage } from "./Screens"
import { OutgoingPage } from "./Outgoing"
import { DatabasePage } from "./Database"
import { TablePage } from "./DatabaseTable"
import { Operations } from "./Operations"
import { Palette } from "./Palette"
import { Defaults } from "./Defaults"
import { SettingsPage } from "./Settings"
import { ShelfPage } from "./Shelf"
import { SignIn } from "./SignIn"
import { SitePage } from "./SitePage"
import { TrialPage } from "./Trial"
import { WalkPage } from "./Walk"
import "./tokens.css"
import { Guard, Notice, Word } from "./ui"

const TerminalPage = lazy(() => import("./Terminal"))

// Shell is a page that is loaded when it is opened.
const Shell = ({ name }: { name: string }) => (
  <Suspense fallback={<div className="h-64 animate-pulse bg-wash" aria-busy />}>
    <TerminalPage name={name} />
  </Suspense>
)

type Theme = "light" | "dark"

// useTheme is what was turned to here, else what is set once, else the system's.
function useTheme(): [Theme, () => void] {
  const system = matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light"
  const [own, setTheme] = useState<Theme | null>(() => localStorage.getItem("theme") as Theme | null)
  const once = useDefaults().data?.settings.find((d) => d.name === "appearance")?.value
  const theme: Theme = own ?? (once === "light" || once === "dark" ? once : system)
  useEffect(() => {
    document.documentElement.dataset.theme = theme
  }, [theme])
  return [
    theme,
    () => {
      const next = theme === "dark" ? "light" : "dark"
      localStorage.setItem("theme", next)
      setTheme(next)
    },
  ]
}

const pages = [
  ["/", "Fleet"],
  ["/cms", "CMS and stencils"],
  ["/shelf", "Shelf"],
  ["/engines", "Engines"],
  ["/hosting", "Hosting"],
  ["/mail", "Mail"],
  ["/operations", "Operations"],
  ["/machine", "Machine"],
  ["/defaults", "Defaults"],
] as const

// Header leads to every page, and says which service this is.
function Header({ theme, turn }: { theme: Theme; turn: () => void }) {
  const status = useStatus()
  const [place] = useLocation()
  return (
    <header className="border-b border-line">
      <div className="mx-auto flex max-w-[1400px] flex-wrap items-baseline gap-x-7 gap-y-1 px-4 sm:px-6 pb-2.5 pt-4">
        <Link href="/" className="flex items-center gap-2 text-[21px] font-bold tracking-tight">
          <span aria-hidden className="inline-flex gap-[2.5px]">
            <i className="block h-[15px] w-[5px] bg-accent" />
            <i className="block h-[15px] w-[5px] bg-accent" />
            <i className="block h-[15px] w-[5px] border-[1.5px] border-accent" />
          </span>
          Vessik
        </Link>
        <nav
          aria-label="Main"
          className="flex flex-wrap gap-x-5 gap-y-1 [&_a[aria-current]]:border-b-2 [&_a[aria-current]]:border-accent [&_a]:pb-0.5"
        >
          {pages.map(([path, title]) => (
            <Link key={path} href={path} aria-current={place === path ? "page" : undefined}>
              {title}
            </Link>
          ))}
        </nav>
        <span className="grow" />
        {status.data && (
          <span
            title={status.data.home}
            className="hidden max-w-[9rem] truncate font-mono lg:inline 2xl:max-w-[19rem] text-[12.5px] text-soft"
          >
            {status.data.home} · port {status.data.gateway_port}
          </span>
        )}
        <span className="hidden text-[13px] text-faint lg:inline" title="Quick actions">
          Ctrl K
        </span>
        <Word onClick={signOut} className="text-[13px] text-soft">
          Sign out
        </Word>
        <Word onClick={turn} className="text-[13px] text-soft">
          {theme === "dark" ? "Light" : "Dark"}
        </Word>
      </div>
    </header>
  )
}

// sitePages are the pages of one site, by the last word of their address.
const sitePages: Record<string, (of: { name: string }) => React.ReactNode> = {
  settings: SettingsPage,
  trial: TrialPage,
  database: DatabasePage,
  outgoing: OutgoingPage,
  guests: GuestsPage,
  screens: ScreensPage,
  errors: ErrorsPage,
  terminal: Shell,
  walk: WalkPage,
  info: InfoPage,
  parts: PartsPage,
  restore: RestorePage,
  logs: LogsPage,
}

function App({ link }: { link: string }) {
  const [theme, turn] = useTheme()
  const status = useStatus()
  const [place] = useLocation()
  const refusal = status.error instanceof Refusal ? status.error : undefined
  const signedOut = refusal?.status === 401
  useChanges(status.data !== undefined && !signedOut)
  const lost = useLost()
  useEffect(() => {
    window.scrollTo(0, 0)
  }, [place])
  if (signedOut) return <SignIn used={link === "used"} />
  return (
    <>
      <a
        href="#main"
        className="sr-only focus:not-sr-only focus:absolute focus:left-4 focus:top-2 focus:bg-sheet focus:px-3 focus:py-1"
      >
        Skip to the content
      </a>
      <Header theme={theme} turn={turn} />
      <Palette turn={turn} />
      <Bring />
      <main id="main" className="mx-auto max-w-[1400px] px-4 pb-20 sm:px-6 pt-5">
        {lost && (
          <Notice tone="fail">
            The service has not answered since {lost.toLocaleTimeString()}: what stands here is what was known
            then. Start the service with <code className="font-mono">vessik serve</code>; this page goes on by
            itself.
          </Notice>
        )}
        {refusal && !lost && <Notice tone="fail">{refusal.message}</Notice>}
        {status.data && !status.data.confinement.cells && (
          <Notice tone="fail">
            There are no cells on this machine ({status.data.confinement.why}):{" "}
            {status.data.confinement.files
              ? "Landlock and seccomp alone keep sites apart."
              : "sites are kept apart by open_basedir only."}
          </Notice>
        )}
        <Guard key={place}>
          <div data-known={lost ? "then" : "now"} className="data-[known=then]:grayscale">
            <Switch>
              <Route path="/" component={Fleet} />
              <Route path="/operations" component={Operations} />
              <Route path="/engines" component={Engines} />
              <Route path="/machine" component={Machine} />
              <Route path="/cms" component={CMSPage} />
              <Route path="/shelf" component={ShelfPage} />
              <Route path="/hosting" component={HostingPage} />
              <Route path="/fleet-file" component={FleetFile} />
              <Route path="/mail" component={MailPage} />
              <Route path="/defaults" component={Defaults} />
              {Object.entries(sitePages).map(([path, Page]) => (
                <Route key={path} path={`/sites/:name/${path}`}>
                  {(p) => <Page name={p.name ?? ""} key={p.name} />}
                </Route>
              ))}
              <Route path="/sites/:name/database/:table">
                {(p) => (
                  <TablePage name={p.name} table={decodeURIComponent(p.table)} key={p.name + p.table} />
                )}
              </Route>
              <Route path="/sites/:name">{(p) => <SitePage name={p.name} key={p.name} />}</Route>
              <Route>
                <h1 className="text-2xl font-semibold">There is no such page</h1>
              </Route>
            </Switch>
          </div>
        </Guard>
      </main>
    </>
  )
}

const link = await signIn()
addEventListener("hashchange", () => location.hash.includes("ticket=") && location.reload()) // a link that was opened in a page of the console

const root = document.getElementById("root")
if (!root) throw new Error("this page has no place for the console")
createRoot(root).render(
  <QueryClientProvider client={queries}>
    <Guard>
      <App link={link} />
    </Guard>
  </QueryClientProvider>,
)
