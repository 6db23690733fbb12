// Engines: what is here, what could be, who uses it, and what it takes.
import { useQuery } from "@tanstack/react-query"
import { useState } from "react"
import { answer, api, of, queries, told, useEngines, type Engine, type VariablesPage } from "./api"
import { useLive } from "./live"
import { Button, Mono, Notice, Word } from "./ui"

const titles = {
  php: "PHP",
  web: "Web servers",
  database: "Database servers",
  release: "CMS releases",
} as const
const megabytes = (bytes: number) => `${Math.round(bytes / 1048576)} MB`

export function Engines() {
  const engines = useEngines()
  const live = useLive()
  const [fault, setFault] = useState<string>()
  const act: Act = async (verb, id) => {
    setFault(undefined)
    try {
      await answer(api.POST(`/api/v1/engines/${verb}`, { body: { ids: [id] } }))
      await queries.invalidateQueries()
    } catch (error) {
      setFault(told(error))
    }
  }
  const disk = Object.entries(engines.data?.disk ?? {})
  return (
    <>
      <h1 className="text-[26px] font-bold tracking-tight">Engines</h1>
      <p className="mb-4 text-soft">
        Side by side, each site on its own. An engine that a site needs and that is not here is fetched with
        it.
        {disk.length > 0 &&
          ` On disk, with what engines share counted once: ${disk.map(([g, b]) => `${g} ${megabytes(b)}`).join(", ")}.`}
      </p>
      {engines.isError && <Notice tone="fail">{engines.error.message}</Notice>}
      {fault && (
        <Notice tone="fail">
          {fault} <Word onClick={() => setFault(undefined)}>Close</Word>
        </Notice>
      )}
      {(Object.keys(titles) as (keyof typeof titles)[]).map((kind) => (
        <section key={kind} className="mb-5">
          <h2 className="grid lg:grid-cols-[13rem_8rem_11rem_6rem_1fr_7rem_8rem] gap-x-4 border-b border-line-strong pb-1 max-lg:[&>span]:hidden text-[13px] text-soft">
            <b className="text-[15px] font-semibold text-ink">{titles[kind]}</b>
            <span>Version</span>
            <span>From</span>
            <span>Size</span>
            <span>Sites</span>
            <span>Memory</span>
            <span />
          </h2>
          {engines.data?.engines
            .filter((e) => e.kind === kind)
            .map((e) => (
              <Row key={e.id} engine={e} doing={live.get(e.id)?.text} act={act} />
            ))}
        </section>
      ))}
    </>
  )
}

type Act = (verb: "fetch" | "drop", id: string) => Promise<void>

interface RowOf {
  engine: Engine
  doing?: string
  act: Act
}

function Row({ engine: e, doing, act }: RowOf) {
  const [open, setOpen] = useState(false)
  return (
    <>
      <div
        data-engine={e.id}
        data-present={e.present}
        className={`grid lg:grid-cols-[13rem_8rem_11rem_6rem_1fr_7rem_8rem] items-baseline gap-x-4 border-b border-line py-1.5 ${e.present ? "" : "text-soft"}`}
      >
        <Mono>{e.id}</Mono>
        <span>
          {e.present ? e.version : doing ? <span className="text-accent">coming</span> : "not here"}
        </span>
        <span className="truncate text-[13px]" title={e.note || e.from}>
          {e.from}
          {e.note && "*"}
        </span>
        <span className="text-[13px]">{e.present && megabytes(e.size_bytes)}</span>
        <span className="truncate text-[13px]" title={e.sites.join(", ")}>
          {e.sites.length > 3
            ? `${e.sites.slice(0, 3).join(", ")} and ${e.sites.length - 3} more`
            : e.sites.join(", ")}
        </span>
        <span className="text-[13px]">
          {e.memory_bytes > 0 && `${megabytes(e.memory_bytes)} in ${e.processes.length}`}
        </span>
        <span className="text-right text-[13px]">
          {e.present && e.kind === "database" && (
            <Word aria-expanded={open} onClick={() => setOpen(!open)}>
              variables
            </Word>
          )}
          <Bring engine={e} doing={doing} act={act} />
        </span>
      </div>
      {open && <Variables engine={e} />}
    </>
  )
}

// Bring fetches an engine, or drops one that no site is on.
function Bring({ engine: e, doing, act }: RowOf) {
  if (doing) return <span className="text-accent">{doing}</span>
  if (!e.present) return <Word onClick={() => act("fetch", e.id)}>fetch</Word>
  return (
    e.sites.length === 0 && (
      <Word className="ml-3" onClick={() => act("drop", e.id)}>
        drop
      </Word>
    )
  )
}

// Variables unfolds under a database server: what was set, by whom and when, and going back.
function Variables({ engine: e }: { engine: Engine }) {
  const page = useQuery({
    queryKey: ["variables", e.id],
    queryFn: () => answer(api.GET("/api/v1/engines/{id}/variables", of({ id: e.id }))),
  })
  const [fault, setFault] = useState<string>()
  const [working, setWorking] = useState(false)
  if (!page.data) return null
  const now = page.data.variables
  const set = async (variables: Record<string, string>) => {
    setFault(undefined)
    setWorking(true)
    try {
      await answer(api.PUT("/api/v1/engines/{id}/variables", { ...of({ id: e.id }), body: { variables } }))
      await queries.invalidateQueries()
      return true
    } catch (error) {
      setFault(told(error))
      return false
    } finally {
      setWorking(false)
    }
  }
  return (
    <section
      aria-label={`Server variables of ${e.id}`}
      className="grid grid-cols-2 gap-x-12 border-b border-line-strong bg-sheet px-5 py-4"
    >
      <div>
        {Object.entries(now)
          .sort()
          .map(([n, v]) => (
            <p key={n} className="flex gap-3 border-t border-line py-1">
              <Mono className="grow">
                {n} = {v}
              </Mono>
              <Word className="text-[13px]" disabled={working} onClick={() => set({ [n]: "" })}>
                take back
              </Word>
            </p>
          ))}
        {Object.keys(now).length === 0 && <p className="text-soft">All as the server has them.</p>}
        <SetVariable working={working} set={set} />
        <p className="text-[13px] text-soft">
          The server reads it first, starts anew while its sites' visitors wait, and a site is verified; what
          does not work is taken back.{" "}
          <span className="whitespace-nowrap">
            {e.sites.length} {e.sites.length === 1 ? "site is" : "sites are"} on it.
          </span>
        </p>
        {fault && (
          <Notice tone="fail">
            <span className="break-words">{fault}</span>
          </Notice>
        )}
      </div>
      <History page={page.data} working={working} set={set} />
    </section>
  )
}

interface Setting {
  working: boolean
  set: (variables: Record<string, string>) => Promise<boolean> // whether it is set
}

// SetVariable is the form for one variable.
function SetVariable({ working, set }: Setting) {
  const [name, setName] = useState("")
  const [value, setValue] = useState("")
  const submit = async () => {
    if (!(await set({ [name.trim()]: value.trim() }))) return
    setName("")
    setValue("")
  }
  return (
    <form
      className="mt-2 flex items-baseline gap-2 border-t border-line py-2"
      onSubmit={(event) => {
        event.preventDefault()
        void submit()
      }}
    >
      <input
        name="variable"
        value={name}
        onChange={(event) => setName(event.target.value)}
        placeholder="max_connections"
        aria-label="Variable"
        className="w-52 border-b border-line-strong bg-transparent font-mono text-[13px] placeholder:text-faint"
      />
      <span>=</span>
      <input
        name="value"
        value={value}
        onChange={(event) => setValue(event.target.value)}
        placeholder="600"
        aria-label="Value"
        className="w-40 border-b border-line-strong bg-transparent font-mono text-[13px] placeholder:text-faint"
      />
      <Button type="submit" disabled={working || !name.trim() || !value.trim()}>
        {working ? "Being proven…" : "Set"}
      </Button>
    </form>
  )
}

// History is what was set before, by whom, and the way back to it.
function History({ page, working, set }: Setting & { page: VariablesPage }) {
  const names = Object.keys(page.variables)
  const none = Object.fromEntries(names.map((n) => [n, ""]))
  const shown = (variables: Record<string, string>) =>
    Object.entries(variables)
      .sort()
      .map(([n, v]) => `${n} = ${v}`)
      .join(", ") || "as the server has them"
  const back = (variables: Record<string, string>) => (
    <Word className="ml-3 text-[13px]" disabled={working} onClick={() => set(variables)}>
      back to this
    </Word>
  )
  return (
    <ol className="max-h-56 overflow-auto" aria-label="History">
      {page.history.map((entry, i) => (
        <li key={entry.id} className="border-t border-line py-1.5">
          <Mono className="text-soft">{new Date(entry.at).toLocaleString("sv")}</Mono> by {entry.who}
          {i > 0 && back({ ...none, ...entry.variables })}
          <span className="block break-words text-[13px] text-soft">{shown(entry.variables)}</span>
        </li>
      ))}
      <li className="border-t border-line py-1.5 text-soft">
        as the server has them {names.length > 0 && back(none)}
      </li>
    </ol>
  )
}
