// The API, typed by its own document. Everything that is shown comes from here and is asked for again when the service says that
// something has changed.
import { QueryClient, useQuery } from "@tanstack/react-query"
import createClient from "openapi-fetch"
import { useEffect, useState } from "react"
import type { components, paths } from "./api.gen"

type Schemas = components["schemas"]
export type Site = Schemas["Site"]
export type SiteReport = Schemas["SiteReport"]
export type Result = Schemas["Result"]
export type Operation = Schemas["Operation"]
export type Watched = Schemas["Watched"]
export type Request = Schemas["Request"]
export type Problem = Schemas["Problem"]
export type Engine = Schemas["Engine"]
export type Engines = Schemas["Engines"]
export type CMSPage = Schemas["CMSPage"]
export type Stencil = Schemas["Stencil"]
export type ShelfItem = Schemas["ShelfItem"]
export type Tally = Schemas["Tally"]
export type FleetStep = Schemas["Step"]
export type Session = Schemas["Session"]
export type DefaultsData = Schemas["DefaultsPage"]
export type VariablesPage = Schemas["VariablesPage"]
export type RestackPreview = Schemas["RestackPreview"]
export type Settings = Schemas["Settings"]
export type SettingsData = Schemas["SettingsPage"]
export type Info = Schemas["Info"]
export type LogLine = Schemas["LogLine"]
export type Trial = Schemas["Trial"]
export type Change = Schemas["Change"]
export type Check = Schemas["Definition"]
export type SiteChanges = Schemas["SiteChanges"]
export type Cell = Schemas["Cell"]
export type Upload = Schemas["Upload"]
export type RestorePoint = Schemas["RestorePoint"]
export type RestorePreview = Schemas["RestorePreview"]
export type Part = Schemas["Part"]
export type ChangeParts = Schemas["ChangeParts"]
export type Mail = Schemas["Mail"]
export type MailRead = Schemas["MailPage"]
export type MailAccess = Schemas["MailAccess"]
export type DatabaseData = Schemas["DatabasePage"]
export type TableStructure = Schemas["TableStructure"]
export type DatabaseValue = Schemas["DatabaseValue"]
export type RowValue = Schemas["Value"]
export type AskRows = Schemas["AskRows"]
export type Filter = Schemas["Filter"]
export type FoundText = Schemas["FoundText"]
export type Replaced = Schemas["Replaced"]
export type QueryLine = Schemas["QueryLine"]
export type WalkLine = Schemas["WalkLine"]
export type Walked = Schemas["Walked"]
export type WalkedPage = Schemas["WalkedPage"]
export type PHPError = Schemas["PHPError"]
export type Invitation = Schemas["Invitation"]
export type Invite = Schemas["Invite"]
export type StandingCopy = Schemas["StandingCopy"]
export type Remark = Schemas["Remark"]
export type Outgoing = Schemas["Outgoing"]
export type OutgoingAsked = Schemas["OutgoingPage"]
export type Account = Schemas["Account"]
export type HostChecks = Schemas["HostChecks"]
export type HostSignIn = Schemas["HostSignIn"]
export type AccountPictures = Schemas["AccountPictures"]
export type Pushed = Schemas["Pushed"]
export type Fetched = Schemas["Fetched"]
export type HandedOn = Schemas["HandedOn"]
export type Verb = "start" | "stop" | "verify" | "retire"

// Refusal is the service's problem details (RFC 9457).
export class Refusal extends Error {
  constructor(
    readonly status: number,
    detail: string,
    readonly problems: Problem[],
  ) {
    super(detail)
  }
}

const sessionKey = "vessik session"

// signIn takes the ticket out of the address and gets the session's secret for it, which this page keeps for its own origin: no other
// port and no site is ever sent it.
export async function signIn(): Promise<"none" | "signed in" | "used"> {
  const ticket = new URLSearchParams(location.hash.slice(1)).get("ticket")
  if (!ticket) return "none"
  history.replaceState(null, "", location.pathname + location.search)
  const response = await request("/session", {
    method: "POST",
    headers: { "Content-Type": "application/json" },
    body: JSON.stringify({ ticket }),
  }).catch(() => undefined)
  if (!response?.ok) return "used"
  localStorage.setItem(sessionKey, ((await response.json()) as { secret: string }).secret)
  return "signed in"
}

// signOut ends this browser's session.
export async function signOut() {
  await answer(api.DELETE("/api/v1/sessions/{id}", of({ id: "own" }))).catch(() => undefined)
  localStorage.removeItem(sessionKey)
  queries.clear()
  location.assign("/")
}

// authorized sends a request as this browser's session.
function authorized(request: globalThis.Request): Promise<Response> {
  const secret = localStorage.getItem(sessionKey)
  if (secret) request.headers.set("Authorization", `Bearer ${secret}`)
  return fetch(request).catch((fault: unknown) => {
    if (request.signal.aborted) throw fault
    throw new Refusal(0, "The service does not answer. Start it with: vessik serve", [])
  })
}

// request asks for what is no JSON: pictures, archives, streams.
export const request = (path: string, init?: RequestInit) =>
  authorized(new globalThis.Request(location.origin + "/api/v1" + path, init))

// upload brings a file to the service, and tells how much of it was sent, in bytes.
export const upload = (file: File, sent: (bytes: number) => void, signal: AbortSignal) =>
  send<Upload>(`/uploads?name=${encodeURIComponent(file.name)}`, file, sent, signal)

// send posts a file, and tells how much of it was sent, in bytes, which fetch does not.
export function send<T>(
  path: string,
  file: File,
  sent: (bytes: number) => void,
  signal?: AbortSignal,
): Promise<T> {
  return new Promise((resolve, reject) => {
    const sending = new XMLHttpRequest()
    sending.open("POST", `${location.origin}/api/v1${path}`)
    sending.setRequestHeader("Authorization", `Bearer ${localStorage.getItem(sessionKey)}`)
    sending.setRequestHeader("Content-Type", "application/octet-stream")
    sending.upload.onprogress = (e) => sent(e.loaded)
    sending.onload = () => {
      try {
        const told = JSON.parse(sending.responseText) as T & { detail?: string; errors?: Problem[] }
        if (sending.status === 200) resolve(told)
        else reject(new Refusal(sending.status, told.detail ?? sending.statusText, told.errors ?? []))
      } catch {
        reject(new Refusal(sending.status, `The service answered ${sending.status} without a word.`, []))
      }
    }
    sending.onerror = () =>
      reject(new Refusal(0, "The service broke the line off. Is there room on its disk?", []))
    sending.onabort = () => reject(new Refusal(0, "It was left.", []))
    signal?.addEventListener("abort", () => sending.abort())
    sending.send(file)
  })
}

// api is the API as its document describes it.
export const api = createClient<paths>({ baseUrl: location.origin, fetch: authorized })

// answer is what the service answers; what it refuses is thrown as a Refusal.
export async function answer<T>(
  asked: Promise<{ data?: T; error?: unknown; response: Response }>,
): Promise<T> {
  const { data, error, response } = await asked
  if (!response.ok) {
    const told = (error || {}) as { detail?: string; errors?: Problem[] }
    throw new Refusal(response.status, told.detail ?? response.statusText, told.errors ?? [])
  }
  return data as T
}

// of names what a path of the API is about.
export const of = <Path>(path: Path) => ({ params: { path } })

export const queries = new QueryClient({
  defaultOptions: {
    queries: {
      retry: (count, fault) => count < 2 && !(fault instanceof Refusal && fault.status > 0),
      staleTime: 1000,
      refetchOnWindowFocus: true,
    },
  },
})

export const useSites = () =>
  useQuery({ queryKey: ["sites"], queryFn: async () => (await answer(api.GET("/api/v1/sites"))) ?? [] })
export const useStatus = () =>
  useQuery({ queryKey: ["status"], queryFn: () => answer(api.GET("/api/v1/status")) })
export const useOperations = () =>
  useQuery({
    queryKey: ["operations"],
    queryFn: async () => (await answer(api.GET("/api/v1/operations"))) ?? [],
  })
export const useEngines = () =>
  useQuery({ queryKey: ["engines"], queryFn: () => answer(api.GET("/api/v1/engines")) })
export const useCMS = () => useQuery({ queryKey: ["cms"], queryFn: () => answer(api.GET("/api/v1/cms")) })
export const useStencils = () =>
  useQuery({ queryKey: ["stencils"], queryFn: async () => (await answer(api.GET("/api/v1/stencils"))) ?? [] })
export const useShelf = () =>
  useQuery({ queryKey: ["shelf"], queryFn: () => answer(api.GET("/api/v1/shelf")) })
export const useDefaults = () =>
  useQuery({ queryKey: ["defaults"], queryFn: () => answer(api.GET("/api/v1/defaults")) })

// changeOf and trialOf are what operations of these kinds tell of themselves; undefined for others.
const changes = ["restack", "adjust", "readdress", "load-sql"]
export const changeOf = (o: Operation | undefined) =>
  o && changes.includes(o.kind) ? (o.details as Change | undefined) : undefined
// pushOf is the site that an operation pushes to a host.
export const pushOf = (o: Operation) =>
  o.kind === "push-account"
    ? (o.details as { asked?: { site?: string } } | undefined)?.asked?.site
    : undefined
export const trialOf = (o: Operation | undefined) =>
  o?.kind === "trial" ? (o.details as Trial | undefined) : undefined

// useChecks are what is verified of a site, in the order of the report strip; it does not change while the service runs.
const none: Check[] = []
export const useChecks = () =>
  useQuery({
    queryKey: ["checks"],
    queryFn: async () => (await answer(api.GET("/api/v1/checks"))) ?? [],
    staleTime: Infinity,
  }).data ?? none

// told is what a refusal says, in one line.
export const told = (error: unknown) =>
  error instanceof Refusal
    ? [
        ...(error.problems.length ? [] : [error.message]),
        ...error.problems.map((p) => `${p.line ? `line ${p.line}: ` : ""}${p.message}; ${p.remedy}`),
      ].join("; ")
    : String(error)
export const useReports = () =>
  useQuery({
    queryKey: ["reports"],
    queryFn: async () => new Map((await answer(api.GET("/api/v1/reports"))).sites.map((r) => [r.site, r])),
  })

export const ask = (verb: Verb, names: string[], keepFiles = false) =>
  answer(api.POST(`/api/v1/sites/${verb}`, { body: { names, keep_files: keepFiles || undefined } }))

// useImage is a picture of the API as an address that an img can have; null where there is none.
export function useImage(path: string): string | null | undefined {
  const [address, setAddress] = useState<string | null>()
  useEffect(() => {
    let made: string | undefined
    let gone = false
    void request(path).then(
      async (response) => {
        const picture = response.ok ? await response.blob() : undefined
        if (gone) return
        made = picture && URL.createObjectURL(picture)
        setAddress(made ?? null)
      },
      () => setAddress(null),
    )
    return () => {
      gone = true
      if (made) URL.revokeObjectURL(made)
    }
  }, [path])
  return address
}

// download has the browser fetch a file by a one-time address.
export const download = async (path: string) =>
  location.assign((await answer(api.POST("/api/v1/downloads", { body: { path: "/api/v1" + path } }))).url)
