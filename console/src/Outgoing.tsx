// Outgoing: what a site asks of other machines, as it happens, and what it asked for one page.
import { useQuery } from "@tanstack/react-query"
import { useState, type ReactNode } from "react"
import { Link } from "wouter"
import { answer, api, of, queries, told, useSites, type Outgoing, type OutgoingAsked } from "./api"
import { Button, Crumbs, Mono, Notice, Word } from "./ui"

const look = 2000 // how often the ledger is read, in milliseconds

const policies = {
  web: "by HTTP and HTTPS on their usual ports",
  open: "for anything",
  closed: "for nothing",
} as const

// useLedger is what a site asked, as it is told again and again.
const useLedger = (name: string) =>
  useQuery({
    queryKey: ["outgoing", name],
    queryFn: () => answer(api.GET("/api/v1/sites/{name}/outgoing", of({ name }))),
    refetchInterval: look,
  })

export function OutgoingPage({ name }: { name: string }) {
  const site = useSites().data?.find((s) => s.name === name)
  const ledger = useLedger(name)
  const [fault, setFault] = useState<string>()
  const forget = async () => {
    await answer(api.DELETE("/api/v1/sites/{name}/outgoing", of({ name })))
    await queries.invalidateQueries({ queryKey: ["outgoing"] })
  }
  const allow = (row: Outgoing) => adds(name, row).catch((error: unknown) => setFault(told(error)))
  return (
    <>
      <Crumbs name={name} here="outgoing" />
      <h1 className="mt-1 text-[34px] font-bold leading-tight tracking-tight">What {name} asks of others</h1>
      {site && (
        <p className="mt-1 max-w-3xl text-soft">
          It may ask other machines {policies[site.outgoing]}
          {site.outgoing_allow?.length ? `, and in any case ${site.outgoing_allow.join(", ")}` : ""}
          {site.outgoing_refuse?.length ? `, but in no case ${site.outgoing_refuse.join(", ")}` : ""}. Mail
          goes to the mailbox.{" "}
          <Link href={`/sites/${name}/settings`} className="whitespace-nowrap underline underline-offset-4">
            Change it
          </Link>
        </p>
      )}
      {fault && <Notice tone="fail">{fault}</Notice>}
      {ledger.isError && <Notice tone="fail">{ledger.error.message}</Notice>}
      <OnePage name={name} running={site?.state === "running"} />
      <div className="mt-6 flex items-baseline gap-6">
        <h2 className="text-[15px] font-semibold">All that it asked</h2>
        {!!ledger.data?.length && <Word onClick={() => void forget()}>forget it</Word>}
      </div>
      <Ledger rows={ledger.data ?? undefined} none="It asked no other machine yet." allow={allow} />
    </>
  )
}

// adds has a setting let through what was refused.
async function adds(name: string, row: Outgoing) {
  const { settings } = await answer(api.GET("/api/v1/sites/{name}/settings", of({ name })))
  const host = row.host || (row.address.includes(":") ? `[${row.address}]` : row.address)
  const entry = row.port ? `${host}:${row.port}` : host
  const body = { settings: { ...settings, outgoing_allow: [...(settings.outgoing_allow ?? []), entry] } }
  await answer(api.PUT("/api/v1/sites/{name}/settings", { ...of({ name }), body }))
  await queries.invalidateQueries()
}

// OnePage loads a page of the site, and shows what was asked for it.
function OnePage({ name, running }: { name: string; running: boolean }) {
  const [path, setPath] = useState("/")
  const [loading, setLoading] = useState(false)
  const [page, setPage] = useState<OutgoingAsked>()
  const [fault, setFault] = useState<string>()
  const load = async () => {
    setLoading(true)
    setFault(undefined)
    try {
      setPage(
        await answer(api.POST("/api/v1/sites/{name}/outgoing/page", { ...of({ name }), body: { path } })),
      )
    } catch (error) {
      setFault(told(error))
    }
    setLoading(false)
  }
  return (
    <>
      <form
        className="mt-4 flex flex-wrap items-baseline gap-x-3 gap-y-2"
        onSubmit={(e) => {
          e.preventDefault()
          void load()
        }}
      >
        <label>
          What does the page{" "}
          <input
            value={path}
            onChange={(e) => setPath(e.target.value)}
            className="w-56 border-b border-line-strong bg-transparent font-mono text-[13px]"
          />{" "}
          ask for?
        </label>
        <Button type="submit" disabled={loading || !running}>
          {loading ? "Loading…" : "Load it"}
        </Button>
      </form>
      {fault && <Notice tone="fail">{fault}</Notice>}
      {page && (
        <section aria-label="For one page" className="mt-2">
          <p className="text-soft">
            <Mono>{page.path}</Mono> answered {page.status} in {page.milliseconds} ms.
          </p>
          <Ledger rows={page.asked} none="For it, the site asked no other machine." />
        </section>
      )}
    </>
  )
}

const head = "pr-4 font-normal"

function Ledger({ rows, none, allow }: { rows?: Outgoing[]; none: string; allow?: (row: Outgoing) => void }) {
  if (!rows) return <div className="h-24 animate-pulse bg-wash" aria-busy />
  if (rows.length === 0) return <p className="py-4 text-soft">{none}</p>
  return (
    <section
      aria-label="Ledger"
      // eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex -- it scrolls where it is wider than the page
      tabIndex={0}
      className="overflow-x-auto"
    >
      <table className="w-full border-collapse text-[13px]">
        <thead>
          <tr className="border-b border-line-strong text-left text-soft">
            <th className={head}>Host</th>
            <th className={head}>Address</th>
            <th className={`${head} text-right`}>Port</th>
            <th className={`${head} text-right`}>Asked</th>
            <th className={head}>Outcome</th>
            <th className={`${head} text-right`}>Took</th>
            <th className={head}>Since</th>
            <th className={head}>Last</th>
          </tr>
        </thead>
        <tbody>
          {rows.map((row) => (
            <Line key={row.host + row.address + row.port} row={row} allow={allow} />
          ))}
        </tbody>
      </table>
    </section>
  )
}

function Line({ row, allow }: { row: Outgoing; allow?: (row: Outgoing) => void }) {
  const stood = row.count - row.refused - row.failed - row.caught
  const parts: [number, string, string][] = [
    [stood, "let through", ""],
    [row.refused, "refused", "text-fail"],
    [row.failed, "unanswered", "text-soft"],
    [row.caught, "to the mailbox", "text-soft"],
  ]
  const cell = (value: ReactNode, className = "") => <td className={`py-1 pr-4 ${className}`}>{value}</td>
  const time = (at: string) => new Date(at).toLocaleString("sv").slice(5)
  return (
    <tr className="border-b border-line align-baseline">
      {cell(row.host || <span className="text-soft">by address</span>, "break-all font-mono")}
      {cell(
        row.address || (
          <span className="text-soft">{row.refused ? "its name is not told" : "not found"}</span>
        ),
        "font-mono",
      )}
      {cell(row.port || "", "text-right font-mono")}
      {cell(row.count, "text-right font-mono")}
      {cell(
        parts
          .filter(([count]) => count > 0)
          .map(([count, words, tone]) => (
            <span key={words} className={`mr-3 whitespace-nowrap ${tone}`}>
              {count === row.count ? words : `${count} ${words}`}
            </span>
          ))
          .concat(
            allow && row.refused > 0 ? (
              <Word key="allow" onClick={() => allow(row)}>
                allow it
              </Word>
            ) : (
              []
            ),
          ),
      )}
      {cell(row.milliseconds ? `${row.milliseconds} ms` : "", "whitespace-nowrap text-right font-mono")}
      {cell(time(row.first_at), "whitespace-nowrap text-soft")}
      {cell(time(row.last_at), "whitespace-nowrap text-soft")}
    </tr>
  )
}
