// The API, typed by its own document. Everything that is shown comes from here and is asked for again when the service says that
// something has changed.
import { QueryClient, useQuery } from "@tanstack/react-query"
import { useEffect, useState } from "react"
import type { components } from "./api.gen"

type Schemas = components["schemas"]
export type Site = Schemas["Site"]
export type SiteReport = Schemas["SiteReport"]
export type Result = Schemas["Result"]
export type Operation = Schemas["Operation"]
export type Watched = Schemas["Watched"]
export type Request = Schemas["Request"]
export type Derived = Schemas["Derived"]
export type Problem = Schemas["Problem"]
export type Status = Schemas["Status"]
export type Engine = Schemas["Engine"]
export type Engines = Schemas["Engines"]
export type Kits = Schemas["Kits"]
export type Stencil = Schemas["Stencil"]
export type ShelfItem = Schemas["ShelfItem"]
export type Hosts = Schemas["HostsPage"]
export type Tally = Schemas["Tally"]
export type FleetStep = Schemas["Step"]
export type User = Schemas["User"]
export type DefaultsData = Schemas["DefaultsPage"]
export type VariablesPage = Schemas["VariablesPage"]
export type Survey = Schemas["Survey"]
export type Preview = Schemas["Preview"]
export type Settings = Schemas["Settings"]
export type SettingsData = Schemas["SettingsPage"]
export type Info = Schemas["Info"]
export type Log = Schemas["Log"]
export type LogLine = { log: string; text: string }
export type Trial = Schemas["Trial"]
export type Cell = Schemas["Cell"]
export type Verb = "start" | "stop" | "verify" | "retire"

// Refusal is the service's problem details (RFC 9457).
export class Refusal extends Error {
  constructor(readonly status: number, detail: string, readonly problems: Problem[]) {
    super(detail)
  }
}

export async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  const response = await fetch("/api/v1" + path, {
    method,
    headers: body === undefined ? {} : { "Content-Type": "application/json" },
    body: body === undefined ? undefined : JSON.stringify(body),
  }).catch(() => {
    throw new Refusal(0, "The service does not answer. Start it with: vessik serve", [])
  })
  const text = await response.text()
  const answer = text ? JSON.parse(text) : undefined
  if (!response.ok) throw new Refusal(response.status, answer?.detail ?? response.statusText, answer?.errors ?? [])
  return answer as T
}

export const queries = new QueryClient({
  defaultOptions: { queries: { retry: (count, fault) => count < 2 && !(fault instanceof Refusal && fault.status > 0), staleTime: 1000, refetchOnWindowFocus: true } },
})

export const useSites = () => useQuery({ queryKey: ["sites"], queryFn: () => call<Site[]>("GET", "/sites") })
export const useStatus = () => useQuery({ queryKey: ["status"], queryFn: () => call<Status>("GET", "/status") })
export const useOperations = () => useQuery({ queryKey: ["operations"], queryFn: () => call<Operation[]>("GET", "/operations") })
export const useEngines = () => useQuery({ queryKey: ["engines"], queryFn: () => call<Engines>("GET", "/engines") })
export const useKits = () => useQuery({ queryKey: ["kits"], queryFn: () => call<Kits>("GET", "/kits") })
export const useStencils = () => useQuery({ queryKey: ["stencils"], queryFn: () => call<Stencil[]>("GET", "/stencils") })
export const useShelf = () => useQuery({ queryKey: ["shelf"], queryFn: () => call<Schemas["ShelfPage"]>("GET", "/shelf") })
export const useDefaults = () => useQuery({ queryKey: ["defaults"], queryFn: () => call<DefaultsData>("GET", "/defaults") })
// told is what a refusal says, in one line.
export const told = (error: unknown) => (error instanceof Refusal ? [...(error.problems.length ? [] : [error.message]), ...error.problems.map((p) => `${p.message}; ${p.remedy}`)].join("; ") : String(error))
export const useReports = () =>
  useQuery({
    queryKey: ["reports"],
    queryFn: async () => new Map((await call<Schemas["Report"]>("GET", "/reports")).sites.map((r) => [r.site, r])),
  })

export const ask = (verb: Verb, names: string[], keepFiles = false) =>
  call<Operation>("POST", `/sites/${verb}`, { names, keep_files: keepFiles || undefined })

// useOperation is one operation as it goes.
export function useOperation(id: string): Watched | undefined {
  const [watched, setWatched] = useState<Watched>()
  useEffect(() => {
    setWatched(undefined)
    const source = stream(`/operations/${id}/events`)
    const show = (event: MessageEvent) => setWatched(JSON.parse(event.data))
    source.addEventListener("operation", show)
    source.addEventListener("end", (event) => {
      show(event as MessageEvent)
      source.close()
    })
    return () => source.close()
  }, [id])
  return watched
}

// A browser allows few streams to one host, and keeps those of pages that it holds for its back button: they end with the page.
const streams = new Set<EventSource>()
addEventListener("pagehide", () => streams.forEach((s) => s.close()))
addEventListener("pageshow", (event) => event.persisted && location.reload())

export function stream(path: string): EventSource {
  const source = new EventSource("/api/v1" + path)
  streams.add(source)
  const close = source.close.bind(source)
  source.close = () => {
    streams.delete(source)
    close()
  }
  return source
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

// useChanges keeps everything fresh by the service's own events.
export function useChanges(signedIn: boolean) {
  const visible = useVisible()
  useEffect(() => {
    if (!signedIn || !visible) return
    queries.invalidateQueries()
    const source = stream("/events")
    source.addEventListener("change", () => queries.invalidateQueries())
    source.onerror = () => queries.invalidateQueries({ queryKey: ["status"] })
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

// useLive follows the newest running operations by their event streams.
export function useLive(): Map<string, Live> {
  const operations = useOperations().data
  const visible = useVisible()
  const running = (operations ?? []).filter((o) => visible && o.state === "running").slice(0, 3).map((o) => o.id).sort().join(",")
  const [live, setLive] = useState(new Map<string, Live>())
  useEffect(() => {
    const sources = running.split(",").filter(Boolean).map((id) => {
      const source = stream(`/operations/${id}/events`)
      const show = (event: MessageEvent) => {
        const watched = JSON.parse(event.data) as Watched
        setLive((before) => {
          const next = new Map(before)
          for (const part of watched.sites) {
            if (part.state === "running") {
              next.set(part.site, { operation: id, kind: watched.kind, text: watched.activity[part.site]?.text ?? "waiting", report: part.report, problem: part.problem })
            } else if (next.get(part.site)?.operation === id) next.delete(part.site)
          }
          return next
        })
      }
      source.addEventListener("operation", show)
      source.addEventListener("end", (event) => {
        show(event as MessageEvent)
        source.close()
        queries.invalidateQueries()
      })
      return source
    })
    return () => {
      sources.forEach((s) => s.close())
      setLive(new Map())
    }
  }, [running])
  return live
}
