// Fleet: all sites in one dense table, each with its report strip.
import { Fragment, useCallback, useEffect, useMemo, useRef, useState, type RefObject } from "react"
import { Link, useSearch } from "wouter"
import { answer, api, queries, useReports, useSites, type Site, type SiteReport, told } from "./api"
import { useLive, type Live } from "./live"
import { bring } from "./Bring"
import { NewSite } from "./NewSite"
import { Strip, summary } from "./Strip"
import { Button, Mono, Notice, Retire, stateOf, useAsk, Word } from "./ui"

export const columns =
  "grid grid-cols-[1.75rem_minmax(0,1fr)_auto] items-center gap-x-4 lg:grid-cols-[1.75rem_minmax(9rem,1.5fr)_6.5rem_minmax(9rem,1.3fr)_minmax(9rem,1.1fr)_10.5rem]"
// On a narrow page, what a row says besides stands below its title.
const below = "max-lg:col-span-2 max-lg:col-start-2"

// fails tells whether something is wrong with a site.
const fails = (s: Site, r?: SiteReport) =>
  s.state === "failed" || (s.state === "running" && r?.passed === false)

// band is the label under which a site stands: those that fail first, then the pinned, then by group; empty until there are groups.
const band = (s: Site, r?: SiteReport) => (fails(s, r) ? "Failing" : s.pinned ? "Pinned" : s.group)

function Band({
  name,
  sites,
  chosen,
  choose,
}: {
  name: string
  sites: Site[]
  chosen: Set<string>
  choose: (names: string[], on: boolean) => void
}) {
  const all = sites.every((s) => chosen.has(s.name))
  return (
    <div role="row" className="flex items-baseline gap-3 border-b border-line bg-wash px-2 py-1 text-[13px]">
      <input
        type="checkbox"
        aria-label={`Choose all of ${name || "no group"}`}
        className="translate-y-0.5 accent-(--accent)"
        checked={all}
        onChange={(e) =>
          choose(
            sites.map((s) => s.name),
            e.target.checked,
          )
        }
      />
      <b data-band={name} className="font-semibold">
        {name || "In no group"}
      </b>
      <span className="text-soft">
        {sites.length} {sites.length === 1 ? "site" : "sites"}
      </span>
    </div>
  )
}

// Sites are ordered by what a column shows, inside their groups; those with faults come first where it is the report.
interface Order {
  by: keyof typeof keys
  down: boolean
}
const keys = {
  site: (s: Site) => s.title,
  state: (s: Site) => stateOf(s),
  address: (s: Site) => s.domain,
  stack: (s: Site) => stackText(s),
  report: (_: Site, r?: SiteReport) =>
    (r === undefined ? "2" : r.passed === false ? "0 " : "1 ") + summary(r),
}

// Grouping puts the chosen sites under a label.
function Grouping({ names }: { names: string[] }) {
  const [open, setOpen] = useState(false)
  const [group, setGroup] = useState("")
  const [fault, setFault] = useState("")
  if (!open) return <Word onClick={() => setOpen(true)}>group…</Word>
  const label = async () => {
    try {
      await answer(api.POST("/api/v1/sites/label", { body: { names, group } }))
      setOpen(false)
      setFault("")
      await queries.invalidateQueries()
    } catch (refused) {
      setFault(told(refused))
    }
  }
  return (
    <form
      className="flex items-baseline gap-2"
      onSubmit={(e) => {
        e.preventDefault()
        void label()
      }}
    >
      <input
        autoFocus
        value={group}
        onChange={(e) => setGroup(e.target.value)}
        placeholder="label, empty for none"
        aria-label="Group"
        className="w-44 border-b border-line-strong bg-transparent px-1 text-[13px] placeholder:text-faint"
      />
      <Word type="submit">set</Word>
      {fault && (
        <span role="alert" className="max-w-md text-[13px] text-fail">
          {fault}
        </span>
      )}
    </form>
  )
}

// fitting are the sites that have every word of a filter, in an order: those that fail first, then the pinned, then by group.
export function fitting(
  sites: Site[],
  reports: Map<string, SiteReport> | undefined,
  filter: string,
  order: Order,
): Site[] {
  const words = filter.toLowerCase().split(/\s+/).filter(Boolean)
  const key = (s: Site) => keys[order.by](s, reports?.get(s.name))
  const way = order.down ? -1 : 1
  const first = (s: Site) => (fails(s, reports?.get(s.name)) ? 2 : s.pinned ? 1 : 0)
  return sites
    .toSorted(
      (a, b) =>
        first(b) - first(a) ||
        (first(a) ? 0 : (a.group || "\uffff").localeCompare(b.group || "\uffff")) ||
        way * key(a).localeCompare(key(b), undefined, { numeric: true }) ||
        a.name.localeCompare(b.name),
    )
    .filter((s) => {
      const text = textOf(s, reports?.get(s.name))
      return words.every((w) => text.includes(w))
    })
}

// textOf is what a filter looks at.
const textOf = (s: Site, report: SiteReport | undefined) =>
  [
    s.group,
    s.note,
    s.name,
    s.title,
    s.domain,
    s.state,
    s.stack.php.engine,
    s.stack.web.engine,
    s.stack.database.engine,
    s.cms.name,
    s.cms.version,
    s.administrator.name,
    s.network,
    ...(s.domains ?? []),
    summary(report),
  ]
    .join(" ")
    .toLowerCase()

// useKeys has a slash go to the filter, and n begin a new site.
function useKeys(search: RefObject<HTMLInputElement | null>, make: () => void) {
  useEffect(() => {
    const press = (event: KeyboardEvent) => {
      const typing =
        event.target instanceof HTMLElement &&
        event.target.closest("input, textarea, select, [role=alertdialog]")
      if (typing || event.ctrlKey || event.metaKey || event.altKey) return
      if (event.key === "/") {
        event.preventDefault()
        search.current?.focus()
      } else if (event.key === "n") {
        event.preventDefault()
        make()
      }
    }
    addEventListener("keydown", press)
    return () => removeEventListener("keydown", press)
  }, [search, make])
}

// useMaking tells whether the form for a new site is open, which an address can ask for.
function useMaking() {
  const search = new URLSearchParams(useSearch())
  const asked = search.has("new")
  const [making, setMaking] = useState(asked)
  const [archive, setArchive] = useState(search.get("archive") ?? undefined)
  const brought = search.get("archive")
  useEffect(() => {
    if (!asked) return
    setArchive(brought ?? undefined)
    setMaking(true)
    history.replaceState(null, "", "/") // asked for once
  }, [asked, brought])
  return [making, setMaking, archive] as const
}

// useFilter keeps the filter in the page's address, so that it can be kept and shared.
function useFilter() {
  const [filter, setFilter] = useState(() => new URLSearchParams(location.search).get("filter") ?? "")
  const change = useCallback((next: string) => {
    setFilter(next)
    history.replaceState(null, "", next ? "/?" + new URLSearchParams({ filter: next }).toString() : "/")
  }, [])
  return [filter, change] as const
}

export function Fleet() {
  const sites = useSites()
  const reports = useReports().data
  const { send, fault, clear } = useAsk()
  const [filter, setFilter] = useFilter()
  const [chosen, setChosen] = useState(new Set<string>())
  const [making, setMaking, archive] = useMaking()
  const [order, setOrder] = useState<Order>({ by: "site", down: false })
  const search = useRef<HTMLInputElement>(null)
  const make = useCallback(() => setMaking(true), [setMaking])
  useKeys(search, make)
  const shown = useMemo(
    () => fitting(sites.data ?? [], reports, filter, order),
    [sites.data, reports, filter, order],
  )
  const selected = shown.filter((s) => chosen.has(s.name))
  const choose = (names: string[], on: boolean) =>
    setChosen(new Set(on ? [...chosen, ...names] : [...chosen].filter((name) => !names.includes(name))))
  const empty = sites.data?.length === 0
  return (
    <>
      <Top
        sites={sites.data}
        reports={reports}
        filter={filter}
        setFilter={setFilter}
        search={search}
        make={making ? undefined : make}
      />
      {fault && (
        <Notice tone="fail">
          {fault} <Word onClick={clear}>Close</Word>
        </Notice>
      )}
      {sites.isError && <Notice tone="fail">{sites.error.message}</Notice>}
      <div
        role="table"
        aria-label="Sites"
        aria-busy={sites.isLoading}
        className="border-b border-line-strong"
      >
        <Columns
          shown={shown}
          selected={selected}
          setChosen={setChosen}
          order={order}
          setOrder={setOrder}
          send={send}
        />
        {making && (
          <div role="row">
            <div role="cell">
              <NewSite key={archive} archive={archive} onClose={() => setMaking(false)} />
            </div>
          </div>
        )}
        {sites.isLoading && <Loading />}
        <Rows shown={shown} reports={reports} chosen={chosen} choose={choose} />
      </div>
      {empty && !making && <Empty make={make} />}
      {!empty && sites.data && shown.length === 0 && (
        <p className="py-10 text-center text-soft">
          No site fits “{filter}”. <Word onClick={() => setFilter("")}>Show all</Word>
        </p>
      )}
      {!empty && sites.data && <Legend />}
    </>
  )
}

// Rows are the sites that are shown, in bands of their groups.
function Rows({
  shown,
  reports,
  chosen,
  choose,
}: {
  shown: Site[]
  reports?: Map<string, SiteReport>
  chosen: Set<string>
  choose: (names: string[], on: boolean) => void
}) {
  const live = useLive()
  const bandOf = (s: Site) => band(s, reports?.get(s.name))
  return shown.map((s, i) => (
    <Fragment key={s.name}>
      {bandOf(s) !== (i > 0 ? bandOf(shown[i - 1]) : "") && (
        <Band
          name={bandOf(s)}
          sites={shown.filter((each) => bandOf(each) === bandOf(s))}
          choose={choose}
          chosen={chosen}
        />
      )}
      <Row
        site={s}
        report={reports?.get(s.name)}
        live={live.get(s.name)}
        chosen={chosen.has(s.name)}
        choose={choose}
      />
    </Fragment>
  ))
}

// Loading holds the places of sites that are on their way.
const Loading = () =>
  [0, 1, 2].map((i) => (
    <div key={i} className="h-[52px] animate-pulse border-b border-line bg-wash/60" aria-hidden />
  ))

// Top says how many sites there are, filters them, and begins a new one.
function Top({
  sites,
  reports,
  filter,
  setFilter,
  search,
  make,
}: {
  sites?: Site[]
  reports?: Map<string, SiteReport>
  filter: string
  setFilter: (filter: string) => void
  search: RefObject<HTMLInputElement | null>
  make?: () => void
}) {
  const failing = sites?.filter((s) => fails(s, reports?.get(s.name))).length
  return (
    <div className="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
      <h1 className="text-[26px] font-bold tracking-tight">Fleet</h1>
      <span className="text-soft">
        {sites &&
          `${sites.length} ${sites.length === 1 ? "site" : "sites"}, ${sites.filter((s) => s.state === "running").length} running`}
        {!!failing && (
          <>
            , <b className="font-semibold text-fail">{failing} failing</b>
          </>
        )}
      </span>
      <span className="grow" />
      <label className="flex items-center gap-2 text-[13px] text-soft">
        Filter
        <input
          ref={search}
          value={filter}
          onChange={(e) => setFilter(e.target.value)}
          onKeyDown={(e) => e.key === "Escape" && setFilter("")}
          type="search"
          placeholder="name, state, engine, failed…   /"
          className="w-64 max-w-full rounded-sm border border-line-strong bg-sheet px-2.5 py-1 text-[14px] text-ink placeholder:text-faint"
        />
      </label>
      <Link
        href="/fleet-file"
        className="text-[13px] text-soft underline decoration-line-strong underline-offset-4 hover:text-accent"
      >
        as a file
      </Link>
      <Word className="text-[13px] text-soft" onClick={bring} title="Or drop it on any page">
        Bring a file…
      </Word>
      {make && (
        <Button tone="strong" onClick={make} aria-keyshortcuts="n">
          New site
        </Button>
      )}
    </div>
  )
}

// Columns are the table's head: its order, or what is to be done with the sites that are chosen.
function Columns({
  shown,
  selected,
  setChosen,
  order,
  setOrder,
  send,
}: {
  shown: Site[]
  selected: Site[]
  setChosen: (names: Set<string>) => void
  order: Order
  setOrder: (order: Order) => void
  send: ReturnType<typeof useAsk>["send"]
}) {
  const names = selected.map((s) => s.name)
  return (
    <div
      role="row"
      className={`${columns} border-b border-line-strong px-2 pb-1.5 text-[13px] text-soft max-lg:flex max-lg:flex-wrap`}
    >
      <span role="columnheader">
        <input
          type="checkbox"
          aria-label="Choose all that are shown"
          className="accent-(--accent)"
          checked={shown.length > 0 && selected.length === shown.length}
          onChange={(e) => setChosen(new Set(e.target.checked ? shown.map((s) => s.name) : []))}
        />
      </span>
      {selected.length === 0 ? (
        (["site", "state", "address", "stack", "report"] as const).map((by) => (
          <span
            role="columnheader"
            key={by}
            aria-sort={order.by === by ? (order.down ? "descending" : "ascending") : "none"}
          >
            <button
              type="button"
              className={`hover:text-accent ${order.by === by ? "text-ink" : ""}`}
              onClick={() => setOrder({ by, down: order.by === by && !order.down })}
            >
              {by[0].toUpperCase() + by.slice(1)}
              {order.by === by && <span aria-hidden> {order.down ? "↓" : "↑"}</span>}
            </button>
          </span>
        ))
      ) : (
        <span role="columnheader" className="col-span-5 flex flex-wrap items-center gap-4 text-ink">
          <b className="font-semibold">{selected.length} chosen</b>
          <Word onClick={() => send("start", names)}>start</Word>
          <Word onClick={() => send("stop", names)}>stop</Word>
          <Word onClick={() => send("verify", names)}>verify</Word>
          <Grouping names={names} />
          <Retire
            sites={selected}
            onRetire={(keep) => send("retire", names, keep).then(() => setChosen(new Set()))}
            trigger={<Word className="text-fail">retire…</Word>}
          />
        </span>
      )}
    </div>
  )
}

// Empty is the fleet without a site.
const Empty = ({ make }: { make: () => void }) => (
  <div className="py-16 text-center">
    <p className="text-xl font-semibold">No sites yet</p>
    <p className="mx-auto mt-1 mb-5 max-w-md text-soft">
      A site is a folder, a database, a domain and its own PHP. Type a name, and all of it is made and proven
      within seconds.
    </p>
    <Button tone="strong" onClick={make}>
      Make the first site
    </Button>
  </div>
)

// Legend says what the cells of the strips mean.
const Legend = () => (
  <p className="mt-4 flex flex-wrap gap-x-6 text-[13px] text-soft" aria-hidden>
    {(
      [
        ["pass", "passed"],
        ["fail", "failed"],
        ["skip", "skipped"],
        ["none", "not asked yet"],
      ] as const
    ).map(([verdict, word]) => (
      <span key={verdict} className="inline-flex items-center gap-2">
        <i className="cell h-[14px] w-[9px]" data-verdict={verdict} />
        {word}
      </span>
    ))}
  </p>
)

export const stackText = (s: Site) =>
  [s.stack.php.engine, s.stack.web.engine, s.stack.database.engine]
    .map((id) =>
      id.replace("-", " ").replace("php", "PHP").replace("mariadb", "MariaDB").replace("apache", "Apache"),
    )
    .join(" · ")

// Complaints are the places in a site's code of which PHP complained.
const Complaints = ({ site: s }: { site: Site }) =>
  s.php_errors > 0 && (
    <Link
      href={`/sites/${s.name}/errors`}
      className="ml-2 whitespace-nowrap border border-line-strong px-1 font-mono text-[12px] font-normal text-soft hover:text-accent"
      title="Places in the code of which PHP complained"
    >
      PHP {s.php_errors}
    </Link>
  )

function Row({
  site: s,
  report,
  live,
  chosen,
  choose,
}: {
  site: Site
  report?: SiteReport
  live?: Live
  chosen: boolean
  choose: (names: string[], on: boolean) => void
}) {
  const busy = live !== undefined
  const verifying = live?.text === "verifying"
  const shown = verifying
    ? live.report
    : live?.kind === "new"
      ? undefined
      : s.state === "stopped"
        ? undefined
        : report
  return (
    <div
      role="row"
      data-site={s.name}
      data-state={s.state}
      className={`${columns} border-b border-line px-2 py-1.5 hover:bg-sheet ${chosen ? "bg-wash" : ""}`}
    >
      <span role="cell">
        <input
          type="checkbox"
          aria-label={`Choose ${s.name}`}
          className="accent-(--accent)"
          checked={chosen}
          onChange={(e) => choose([s.name], e.target.checked)}
        />
      </span>
      <span role="cell" className="min-w-0">
        <Link
          href={`/sites/${s.name}`}
          className="block truncate text-[16px] font-semibold hover:text-accent"
          title={s.title}
        >
          {s.title}
        </Link>
        <Mono className="block truncate text-soft">{s.name_unicode ?? s.name}</Mono>
      </span>
      <span
        role="cell"
        aria-live="polite"
        className={
          s.state === "failed" ? "font-semibold text-fail" : s.state === "running" ? "" : "text-soft"
        }
      >
        {busy ? <span className="text-accent">{live.text}</span> : stateOf(s)}
        <Complaints site={s} />
      </span>
      <Address site={s} />
      <span
        role="cell"
        className={`${below} text-[13px] leading-snug text-soft`}
        title={[s.stack.php, s.stack.web, s.stack.database].map((e) => `${e.engine} ${e.version}`).join(", ")}
      >
        {stackText(s)}
      </span>
      <span role="cell" className={below}>
        <Link href={`/sites/${s.name}`} aria-label={`Report of ${s.name}: ${summary(shown)}`}>
          <Strip report={shown} growing={verifying} />
        </Link>
      </span>
    </div>
  )
}

// Address is where a site answers, and why where it does not.
function Address({ site: s }: { site: Site }) {
  return (
    <span role="cell" className={`${below} min-w-0 truncate`}>
      {s.state === "running" ? (
        <a
          href={s.url}
          target="_blank"
          rel="noreferrer"
          className="font-mono text-[13px] underline decoration-line-strong underline-offset-4 hover:text-accent"
        >
          {s.url.replace("http://", "").replace(/\/$/, "")}
        </a>
      ) : (
        <Mono className="text-soft">{s.url.replace("http://", "").replace(/\/$/, "")}</Mono>
      )}
      {s.state === "failed" && (
        <span className="block truncate text-[13px] text-fail" title={s.reason}>
          {s.reason}
        </span>
      )}
    </span>
  )
}
