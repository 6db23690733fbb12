// What is moved between a site and a hosting account: pulls, pushes, and how far they are.
import { useEffect, useRef, useState } from "react"
import { Link } from "wouter"
import {
  answer,
  api,
  of,
  queries,
  told,
  useOperations,
  useSites,
  type Account,
  type Fetched,
  type Pushed,
} from "./api"
import { useOperation } from "./live"
import { Entry } from "./PreviewForm"
import { Mono, Word } from "./ui"

// Twice is an action that is asked for twice.
export function Twice({ what, yes, act }: { what: string; yes: string; act: () => void }) {
  const [sure, setSure] = useState(false)
  if (!sure) return <Word onClick={() => setSure(true)}>{what}…</Word>
  return (
    <Word className="text-fail" onClick={act}>
      {yes}
    </Word>
  )
}

interface Chosen {
  name: string
  checked: boolean
  change: (checked: boolean) => void
  children: React.ReactNode
}

export const Choice = ({ name, checked, change, children }: Chosen) => (
  <label className="mt-1 flex items-baseline gap-1.5">
    <input
      type="checkbox"
      name={name}
      className="translate-y-0.5 accent-(--accent)"
      checked={checked}
      onChange={(e) => change(e.target.checked)}
    />
    {children}
  </label>
)

// usePush asks what would be pushed, and pushes it.
export function usePush(account: string) {
  const [begun, setBegun] = useState<{ id: string; dry: boolean }>()
  const [fault, setFault] = useState<string>()
  const watched = useOperation(begun?.id)
  const begin = async (site: string, dry: boolean, overwrite = false, walk = false) => {
    setFault(undefined)
    try {
      const body = { site, dry_run: dry, overwrite, walk }
      const operation = await answer(
        api.POST("/api/v1/accounts/{name}/push", { ...of({ name: account }), body }),
      )
      setBegun({ id: operation.id, dry })
    } catch (error) {
      setFault(told(error))
    }
  }
  const result = (watched?.details as { result?: Pushed } | undefined)?.result
  return { begin, watched, fault, result, dry: begun?.dry }
}

// Push shows what would be pushed first; its button says what will happen.
export function Push({ account: a }: { account: Account }) {
  const [open, setOpen] = useState(false)
  const [typed, setSite] = useState<string>()
  const site = typed ?? a.site ?? ""
  const [overwrite, setOverwrite] = useState(false)
  const [walk, setWalk] = useState(false)
  const push = usePush(a.name)
  if (!open) return <Word onClick={() => setOpen(true)}>Push…</Word>
  const running = push.watched?.state === "running"
  const seen =
    push.dry && push.watched?.state === "done" && push.result?.site === site ? push.result : undefined
  const files = seen ? seen.new + seen.changed + seen.gone : 0
  const ready = seen && files + seen.tables.length > 0 && (seen.conflicts === 0 || overwrite)
  return (
    <form
      aria-label={`Push to ${a.name}`}
      className="order-last w-full border-t border-line pt-2 *:max-w-3xl"
      onSubmit={(e) => {
        e.preventDefault()
        void push.begin(site, !ready, overwrite, walk)
      }}
    >
      <Entry
        label="Site whose changes go there"
        name="push-site"
        value={site}
        change={setSite}
        placeholder="orchard-days"
      />
      {seen && seen.conflicts > 0 && (
        <Choice name="push-overwrite" checked={overwrite} change={setOverwrite}>
          also what was changed at the host since the last move
        </Choice>
      )}
      <Choice name="push-walk" checked={walk} change={setWalk}>
        ask all pages of the live site before and after, not its front page alone
      </Choice>
      <p className="mt-2 flex gap-4">
        <Word type="submit" disabled={!site || running}>
          {ready
            ? `Push ${count(files, "file")} and ${count(seen.tables.length, "table")} to ${a.name}`
            : "What would be pushed?"}
        </Word>
        <Word onClick={() => setOpen(false)}>leave it</Word>
      </p>
      <PushProgress account={a.name} push={push} />
    </form>
  )
}

function PushProgress({ account, push }: { account: string; push: ReturnType<typeof usePush> }) {
  const doing = push.watched?.activity[`account ${account}`]
  const problem = push.watched?.sites[0]?.problem ?? push.fault
  return (
    <div aria-live="polite">
      {push.watched?.state === "running" && <Doing doing={doing} bytes={push.result?.bytes} />}
      {push.result && <Planned planned={push.result} />}
      {push.watched?.state === "done" && !push.dry && (
        <p className="mt-1 font-medium">
          It is pushed, and{" "}
          {push.result?.pages
            ? `${push.result.pages} pages of the live site answer`
            : "the live site answers"}
          .
        </p>
      )}
      {push.result?.pages_worse?.map((page) => (
        <p key={page.path} className="text-fail">
          <Mono>{page.path}</Mono> {page.why}
        </p>
      ))}
      {problem && (
        <p role="alert" className="text-fail">
          {problem}
        </p>
      )}
    </div>
  )
}

const megabytes = (bytes: number) => `${(bytes / 1e6).toFixed(1)} MB`

interface Activity {
  text: string
  fraction: number
}

// useLeft tells how long what goes on will take yet, by how fast it went until now.
function useLeft(doing: Activity | undefined): string {
  const began = useRef<{ text: string; at: number; from: number }>(undefined)
  if (!doing || doing.fraction <= 0) return ""
  if (began.current?.text !== doing.text)
    began.current = { text: doing.text, at: Date.now(), from: doing.fraction }
  return timeLeft(Date.now() - began.current.at, doing.fraction - began.current.from, 1 - doing.fraction)
}

// timeLeft is the words for it: after so many milliseconds in which a share was done, and with a share that is left.
export function timeLeft(milliseconds: number, done: number, left: number): string {
  if (milliseconds < 2000 || done <= 0) return ""
  const seconds = ((milliseconds / done) * left) / 1000
  if (seconds < 10) return "a few seconds left"
  if (seconds < 90) return `about ${Math.ceil(seconds / 10) * 10} seconds left`
  return `about ${Math.ceil(seconds / 60)} minutes left`
}

// Doing is what an operation does now, by bytes where it is known how many there are.
function Doing({ doing, bytes }: { doing?: Activity; bytes?: number }) {
  const left = useLeft(doing)
  if (!doing || doing.fraction <= 0) return <p className="text-accent">{doing?.text || "connecting"}</p>
  const much = bytes && doing.text.endsWith("files")
  return (
    <p className="text-accent">
      {doing.text}: {much && `${megabytes(bytes * doing.fraction)} of ${megabytes(bytes)}, `}
      {Math.floor(doing.fraction * 100)} %{left && `, ${left}`}
      <progress
        className="mt-1 block h-1 w-full accent-(--accent)"
        value={doing.fraction}
        aria-label={doing.text}
      />
    </p>
  )
}

export const count = (n: number, what: string) => `${n} ${what}${n === 1 ? "" : "s"}`

// shown is how many files are named.
const shown = 30

// Planned is what is pushed: files and tables, conflicts among them, and what stays.
export const Planned = ({ planned: p }: { planned: Pushed }) => (
  <div className="mt-1">
    <p>
      Files: {p.new} new, {p.changed} changed, {p.gone} gone; {count(p.tables.length, "table")};{" "}
      {megabytes(p.bytes)} to carry.
      {p.stays > 0 && ` ${p.stays} files of the host’s own stay.`}
      {!!p.stays_tables?.length && ` The tables ${p.stays_tables.join(", ")} stay the host’s, too.`}
    </p>
    <ul aria-label="What is pushed" className="border-l-2 border-line-strong pl-3">
      {p.files.slice(0, shown).map((f) => (
        <li key={f.path} className="break-words">
          <span className="inline-block w-16 text-soft">{f.what}</span>
          <Mono>{f.path}</Mono>
          {f.conflict && <span className="text-fail"> changed at the host as well</span>}
        </li>
      ))}
      {p.files.length > shown && (
        <li className="text-soft">and {p.new + p.changed + p.gone - shown} more files</li>
      )}
      {p.tables.map((t) => (
        <li key={t.name} className="break-words">
          <span className="inline-block w-16 text-soft">table</span>
          <Mono>{t.name}</Mono> {t.new} rows come, {t.gone} go
          {!!t.lost && <span className="text-fail"> {t.lost} changed at the host would be lost</span>}
        </li>
      ))}
    </ul>
    {p.warnings?.map((w) => (
      <p key={w}>→ {w}</p>
    ))}
  </div>
)

// usePull fetches an account, and makes what came a site.
function usePull(account: string) {
  const [asked, setAsked] = useState<{ fetch: string; site: string }>()
  const [fault, setFault] = useState<string>()
  const [made, setMade] = useState<string>()
  const watched = useOperation(asked?.fetch)
  const begin = async (site: string, mask: boolean, dry = false) => {
    setFault(undefined)
    setMade(undefined)
    try {
      const body = { dry_run: dry, mask, into: site || undefined }
      const operation = await answer(
        api.POST("/api/v1/accounts/{name}/fetch", { ...of({ name: account }), body }),
      )
      setAsked({ fetch: operation.id, site: dry ? "" : site })
    } catch (error) {
      setFault(told(error))
    }
  }
  const ended = watched?.state
  useEffect(() => {
    if (!asked || ended === undefined || ended === "running") return
    void queries.invalidateQueries({ queryKey: ["accounts"] })
    if (ended !== "done" || !asked.site) return
    answer(api.POST("/api/v1/accounts/{name}/pull", { ...of({ name: account }), body: { site: asked.site } }))
      .then(() => setMade(asked.site))
      .catch((error: unknown) => setFault(told(error)))
  }, [account, asked, ended])
  return { begin, watched, fault, made }
}

// Pull asks which site it is to be, and shows how far it is.
export function Pull({ account: a }: { account: Account }) {
  const [open, setOpen] = useState(false)
  const [typed, setSite] = useState<string>()
  const site = typed ?? a.site ?? ""
  const [mask, setMask] = useState(false)
  const pull = usePull(a.name)
  const there = useSites().data?.some((s) => s.name === site)
  if (!open) return <Word onClick={() => setOpen(true)}>Pull…</Word>
  const running = pull.watched?.state === "running"
  return (
    <form
      aria-label={`Pull ${a.name}`}
      className="order-last w-full border-t border-line pt-2 *:max-w-2xl"
      onSubmit={(e) => {
        e.preventDefault()
        void pull.begin(site, mask)
      }}
    >
      <Entry
        label="Site that it is to be"
        name="pull-site"
        value={site}
        change={setSite}
        placeholder="orchard-days"
      />
      <Choice name="pull-mask" checked={mask} change={setMask}>
        make people unrecognisable before they leave the host
      </Choice>
      {there && (
        <p className="mt-1">
          {site} is there: its files and its database become the host’s. What they are now stays in a restore
          point.
        </p>
      )}
      <p className="mt-2 flex gap-4">
        <Word type="submit" disabled={!site || running}>
          {there ? `Put the host’s into ${site}` : `Make ${site || "a site"} of it`}
        </Word>
        <Word disabled={running} onClick={() => void pull.begin(site, mask, true)}>
          What differs?
        </Word>
        <Word onClick={() => setOpen(false)}>leave it</Word>
      </p>
      <Progress account={a.name} pull={pull} />
    </form>
  )
}

// Progress tells how far a fetch is, what it found, and where the site is.
function Progress({ account, pull }: { account: string; pull: ReturnType<typeof usePull> }) {
  const doing = pull.watched?.activity[`account ${account}`]
  const result = (pull.watched?.details as { result?: Fetched } | undefined)?.result
  const problem = pull.watched?.sites[0]?.problem
  const making = useOperations().data?.find(
    (o) => o.state === "running" && o.sites.some((s) => s.site === pull.made),
  )
  return (
    <div aria-live="polite">
      {pull.watched?.state === "running" && <Doing doing={doing} bytes={result?.carry_bytes} />}
      {result && <Result found={result} />}
      {pull.made && (
        <p>
          {making ? "Being made and verified: " : "It is "}
          <Link href={`/sites/${pull.made}`} className="underline underline-offset-4">
            {pull.made}
          </Link>
        </p>
      )}
      {(problem ?? pull.fault) && (
        <p role="alert" className="text-fail">
          {problem ?? pull.fault}
        </p>
      )}
    </div>
  )
}

export const Result = ({ found: f }: { found: Fetched }) => (
  <>
    <p className="mt-1">
      {f.cms?.name} {f.cms?.version} on PHP {f.php}, {f.database}: {f.files} files ({megabytes(f.file_bytes)}
      ). Here {f.new} are new, {f.changed} changed, {f.gone} gone: {megabytes(f.carry_bytes)} to carry.
    </p>
    {f.replaces && f.replaces.files + f.replaces.tables.length > 0 && (
      <p>
        → Changed here since the last move, and not at the host, whose take their place:{" "}
        {[
          ...f.replaces.names,
          ...(f.replaces.files > f.replaces.names.length
            ? [`and ${f.replaces.files - f.replaces.names.length} more files`]
            : []),
          ...f.replaces.tables.map((t) => `${Math.max(t.new, t.gone)} rows of ${t.name}`),
        ].join(", ")}
        . A restore point keeps them.
      </p>
    )}
    {f.warnings?.map((w) => (
      <p key={w}>→ {w}</p>
    ))}
  </>
)
