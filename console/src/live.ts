// What changes while one looks: the service tells what has changed, and only that.
import { useEffect, useState, useSyncExternalStore } from "react"
import {
  queries,
  useOperations,
  type Operation,
  type Site,
  type SiteChanges,
  type SiteReport,
  type Watched,
} from "./api"
import { stream } from "./stream"

// merged is an operation after a change of which only the parts that have changed are told, and the details where they have.
export function merged(whole: Watched | undefined, change: Watched): Watched {
  if (!whole) return change
  const parts = new Map(whole.sites.map((part) => [part.site, part]))
  for (const part of change.sites) parts.set(part.site, part)
  const told = new Set(change.sites.map((part) => part.site))
  const still = Object.entries(whole.activity).filter(
    ([site]) => !told.has(site) && change.state === "running",
  )
  return {
    ...change,
    details: change.details ?? whole.details,
    sites: [...parts.values()],
    activity: { ...Object.fromEntries(still), ...change.activity },
  }
}

// withSites is a list of sites, by name, after some have changed.
export function withSites(sites: Site[], { changed, gone }: SiteChanges): Site[] {
  const next = new Map(sites.map((s) => [s.name, s]))
  for (const name of gone) next.delete(name)
  for (const s of changed) next.set(s.name, s)
  return [...next.values()].sort((a, b) => (a.name < b.name ? -1 : 1))
}

const mostOperations = 50

// withOperation is a list of operations, the newest first, after one was begun or is over.
export function withOperation(operations: Operation[], one: Operation): Operation[] {
  const others = operations.filter((o) => o.id !== one.id)
  return [one, ...others].sort((a, b) => Number(b.id) - Number(a.id)).slice(0, mostOperations)
}

// withReports are the newest reports by site, after those of an operation that are over.
export function withReports(reports: Map<string, SiteReport>, o: Operation): Map<string, SiteReport> {
  const next = new Map(reports)
  for (const part of o.sites) {
    if (part.report && part.state !== "running") next.set(part.report.site, part.report)
  }
  return next
}

// useOperation is one operation as it goes.
export function useOperation(id: string | undefined): Watched | undefined {
  const [watched, setWatched] = useState<Watched>()
  useEffect(() => {
    setWatched(undefined)
    return id === undefined ? undefined : follow(id, setWatched)
  }, [id])
  return watched
}

// follow shows an operation as it goes, until it is over or nobody looks any more.
function follow(id: string, show: (watched: Watched) => void): () => void {
  const source = stream(`/operations/${id}/events`)
  let whole: Watched | undefined
  const hear = (data: string) => {
    whole = merged(whole, JSON.parse(data) as Watched)
    show(whole)
  }
  source.on("operation", (data) => {
    whole = undefined // the stream began anew
    hear(data)
  })
  source.on("parts", hear)
  source.on("end", (data) => {
    hear(data)
    source.close()
  })
  return () => source.close()
}

// useVisible tells whether this page is looked at. A browser allows few streams to one host: a hidden page holds none.
function useVisible() {
  const [visible, setVisible] = useState(!document.hidden)
  useEffect(() => {
    const look = () => setVisible(!document.hidden)
    document.addEventListener("visibilitychange", look)
    return () => document.removeEventListener("visibilitychange", look)
  }, [])
  return visible
}

const toldInFull = ["sites", "operations", "reports", "checks"]

// hear keeps what was asked for as it is now. What is being asked for at this moment may be older: it is asked for again.
function hear<T>(key: string, next: (before: T) => T) {
  queries.setQueryData<T>([key], (before) => before && next(before))
  if (queries.isFetching({ queryKey: [key], exact: true }))
    void queries.invalidateQueries({ queryKey: [key], exact: true })
}

export function hearSites(changes: SiteChanges) {
  hear<Site[]>("sites", (before) => withSites(before, changes))
  const names = new Set([...changes.changed.map((s) => s.name), ...changes.gone])
  void queries.invalidateQueries({
    predicate: ({ queryKey: [what, name] }) =>
      what === "status" || (typeof name === "string" && names.has(name)),
  })
}

function hearOperation(o: Operation) {
  hear<Operation[]>("operations", (before) => withOperation(before, o))
  if (o.state === "running") return
  hearReports(o)
  void queries.invalidateQueries({ predicate: ({ queryKey }) => !toldInFull.includes(String(queryKey[0])) })
}

const hearReports = (o: Operation) =>
  hear<Map<string, SiteReport>>("reports", (before) => withReports(before, o))

// lostAt is since when the service does not answer; undefined while it does.
let lostAt: Date | undefined
const lookers = new Set<() => void>()

function setLost(at: Date | undefined) {
  if ((lostAt === undefined) === (at === undefined)) return
  lostAt = at
  lookers.forEach((look) => look())
}

// useLost is since when the service does not answer.
export const useLost = () =>
  useSyncExternalStore(
    (look) => {
      lookers.add(look)
      return () => lookers.delete(look)
    },
    () => lostAt,
  )

// useChanges keeps everything fresh by the service's own events.
export function useChanges(signedIn: boolean) {
  const visible = useVisible()
  useEffect(() => {
    if (!signedIn || !visible) return
    const source = stream("/events")
    source.on("all", () => void queries.invalidateQueries())
    source.on("sites", (data) => hearSites(JSON.parse(data) as SiteChanges))
    source.on("operation", (data) => hearOperation(JSON.parse(data) as Operation))
    // it breaks again and again while the service is gone: what is being asked is left to come to its end
    source.broken = () => void queries.invalidateQueries({ queryKey: ["status"] }, { cancelRefetch: false })
    source.lost = () => setLost(new Date())
    source.found = () => {
      if (lostAt) void queries.invalidateQueries()
      setLost(undefined)
    }
    return () => source.close()
  }, [signedIn, visible])
}

// Live is what running operations say of each site at this moment.
export interface Live {
  operation: string
  kind: Operation["kind"]
  text: string
  report?: SiteReport
  problem?: string
}

// liveOf is what an operation says of the sites that it still works on.
export function liveOf(o: Watched): Map<string, Live> {
  const running = o.sites.filter((part) => part.state === "running")
  return new Map(
    running.map((part) => [
      part.site,
      {
        operation: o.id,
        kind: o.kind,
        text: o.activity[part.site]?.text ?? "waiting",
        report: part.report,
        problem: part.problem,
      },
    ]),
  )
}

const mostFollowed = 3 // a browser allows few streams to one host

// useLive follows the newest running operations by their event streams.
export function useLive(): Map<string, Live> {
  const operations = useOperations().data
  const visible = useVisible()
  const running = (operations ?? [])
    .filter((o) => visible && o.state === "running" && o.kind !== "match-fleet") // its sites are at other operations
    .slice(0, mostFollowed)
    .map((o) => o.id)
    .sort()
    .join(",")
  const [live, setLive] = useState(new Map<string, Live>())
  useEffect(() => {
    const ends = running
      .split(",")
      .filter(Boolean)
      .map((id) =>
        follow(id, (o) => {
          hearReports(o) // what is over is shown as it was recorded, without a glimpse of what was there before
          setLive((before) => new Map([...[...before].filter(([, l]) => l.operation !== id), ...liveOf(o)]))
        }),
      )
    return () => {
      ends.forEach((end) => end())
      setLive(new Map())
    }
  }, [running])
  return live
}
