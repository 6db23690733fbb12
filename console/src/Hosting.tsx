// Hosting: accounts at hosts that sites are pulled from and pushed to.
import { useQuery } from "@tanstack/react-query"
import { useEffect, useState } from "react"
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
  type HostChecks,
  type Pushed,
} from "./api"
import { useOperation } from "./live"
import { Entry } from "./PreviewForm"
import { useAct } from "./Restore"
import { Button, Mono, Notice, Word } from "./ui"

export const useAccounts = () =>
  useQuery({ queryKey: ["accounts"], queryFn: async () => (await answer(api.GET("/api/v1/accounts"))) ?? [] })

export function HostingPage() {
  const accounts = useAccounts()
  const { fault, act } = useAct()
  const all = accounts.data ?? []
  return (
    <>
      <h1 className="text-[26px] font-bold tracking-tight">Hosting</h1>
      <p className="mb-4 max-w-3xl text-soft">
        Accounts at hosts that sites are pulled from and pushed to: by SFTP or FTP, with a shell or without.
        Passwords and keys are sealed here, and what a site’s configuration at the host holds of them stays
        there.
      </p>
      {accounts.isError && <Notice tone="fail">{accounts.error.message}</Notice>}
      {fault && <Notice tone="fail">{fault}</Notice>}
      {accounts.data && all.length === 0 && (
        <p className="pb-2 text-soft">There is no hosting account yet.</p>
      )}
      {all.map((a) => (
        <One
          key={a.name}
          account={a}
          drop={() => act(() => answer(api.DELETE("/api/v1/accounts/{name}", of({ name: a.name }))))}
          unpin={() =>
            act(() => answer(api.DELETE("/api/v1/accounts/{name}/host-key", of({ name: a.name }))))
          }
        />
      ))}
      <Add act={act} />
    </>
  )
}

// Add asks for an account.
function Add({ act }: { act: (work: () => Promise<unknown>) => Promise<void> }) {
  const nothing = { name: "", at: "", url: "", password: "" }
  const [asked, setAsked] = useState(nothing)
  const entry = (name: keyof typeof nothing, label: string, placeholder: string) => (
    <Entry
      label={label}
      name={"account-" + name}
      value={asked[name]}
      change={(value) => setAsked({ ...asked, [name]: value })}
      placeholder={placeholder}
    />
  )
  return (
    <form
      aria-label="A hosting account"
      className="mt-6 max-w-3xl"
      onSubmit={(e) => {
        e.preventDefault()
        void act(async () => {
          await answer(api.POST("/api/v1/accounts", { body: asked }))
          setAsked(nothing)
        })
      }}
    >
      <h2 className="mb-2 font-semibold">Add one</h2>
      <div className="grid gap-x-7 gap-y-3 sm:grid-cols-2">
        {entry("name", "Name", "orchard-live")}
        {entry("url", "Address at which its folder is served", "https://orchard.example")}
        {entry("at", "Where the folder is", "sftp://ines@host.example/www")}
        <label className="block text-[13px] text-soft">
          Password
          <input
            type="password"
            name="account-password"
            autoComplete="off"
            value={asked.password}
            onChange={(e) => setAsked({ ...asked, password: e.target.value })}
            className="w-full border-b border-line-strong bg-transparent font-mono text-[13px] text-ink"
          />
        </label>
      </div>
      <p className="my-2 text-[13px] text-soft">
        With a key or an agent: <Mono>vessik hosting add NAME -key FILE</Mono>
      </p>
      <Button type="submit" disabled={!asked.name || !asked.at || !asked.url}>
        Add the account
      </Button>
    </form>
  )
}

interface Doing {
  account: Account
  drop: () => void
  unpin: () => void
}

// One is an account, what it is like, and what can be done with it.
function One({ account: a, drop, unpin }: Doing) {
  const [checks, setChecks] = useState<HostChecks>()
  const [busy, setBusy] = useState(false)
  const { fault, act } = useAct()
  const look = () =>
    act(async () => {
      setBusy(true)
      try {
        setChecks(await answer(api.POST("/api/v1/accounts/{name}/check", of({ name: a.name }))))
      } finally {
        setBusy(false)
      }
    })
  return (
    <section data-account={a.name} className="border-b border-line py-3">
      <div className="flex flex-wrap items-baseline gap-x-5 gap-y-1">
        <h2 className="font-medium">{a.name}</h2>
        <a href={a.url} className="underline decoration-line-strong underline-offset-4">
          {a.url}
        </a>
        <Mono className="min-w-0 truncate text-soft">{a.at}</Mono>
        <span className="grow" />
        <span className="text-[13px] text-soft">
          {a.pulled ? `fetched ${new Date(a.pulled.at ?? 0).toLocaleString()}` : "not fetched yet"}
        </span>
      </div>
      {a.leftover && (
        <p className="text-[13px] text-fail">
          A helper of ours may still be there ({a.leftover}); it is removed as soon as the host answers.
        </p>
      )}
      <div className="mt-1 flex flex-wrap items-baseline gap-x-5 gap-y-1 text-[13px]">
        <Word onClick={look} disabled={busy}>
          {busy ? "looking at the host…" : "Look at the host"}
        </Word>
        <Pull account={a} />
        <Push account={a} />
        {a.fingerprint && <Twice what="Take another host key" yes="the host has a new key" act={unpin} />}
        <Twice what="Forget it" yes="forget it, the host keeps its site" act={drop} />
      </div>
      {fault && <Notice tone="fail">{fault}</Notice>}
      {checks && <Checks found={checks} />}
    </section>
  )
}

// Twice is an action that is asked for twice.
function Twice({ what, yes, act }: { what: string; yes: string; act: () => void }) {
  const [sure, setSure] = useState(false)
  if (!sure) return <Word onClick={() => setSure(true)}>{what}…</Word>
  return (
    <Word className="text-fail" onClick={act}>
      {yes}
    </Word>
  )
}

// usePush asks what would be pushed, and pushes it.
function usePush(account: string) {
  const [begun, setBegun] = useState<{ id: string; dry: boolean }>()
  const [fault, setFault] = useState<string>()
  const watched = useOperation(begun?.id)
  const begin = async (site: string, dry: boolean, overwrite: boolean) => {
    setFault(undefined)
    try {
      const body = { site, dry_run: dry, overwrite }
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
function Push({ account: a }: { account: Account }) {
  const [open, setOpen] = useState(false)
  const [typed, setSite] = useState<string>()
  const site = typed ?? a.site ?? ""
  const [overwrite, setOverwrite] = useState(false)
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
        void push.begin(site, !ready, overwrite)
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
        <label className="mt-1 flex items-baseline gap-1.5">
          <input
            type="checkbox"
            name="push-overwrite"
            className="translate-y-0.5 accent-(--accent)"
            checked={overwrite}
            onChange={(e) => setOverwrite(e.target.checked)}
          />
          also what was changed at the host since the last move
        </label>
      )}
      <p className="mt-2 flex gap-4">
        <Word type="submit" disabled={!site || running}>
          {ready
            ? `Push ${files} files and ${seen.tables.length} tables to ${a.name}`
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
      {push.watched?.state === "running" && (
        <p className="text-accent">
          {doing?.text || "connecting"}
          {doing && doing.fraction > 0 && ` ${Math.floor(doing.fraction * 100)} %`}
        </p>
      )}
      {push.result && <Planned planned={push.result} />}
      {push.watched?.state === "done" && !push.dry && (
        <p className="mt-1 font-medium">It is pushed, and the live site answers.</p>
      )}
      {problem && (
        <p role="alert" className="text-fail">
          {problem}
        </p>
      )}
    </div>
  )
}

// shown is how many files are named.
const shown = 30

// Planned is what is pushed: files and tables, conflicts among them, and what stays.
export const Planned = ({ planned: p }: { planned: Pushed }) => (
  <div className="mt-1">
    <p>
      {p.new} files are new, {p.changed} changed, {p.gone} gone; {p.tables.length} tables;{" "}
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

// Checks tell step by step what is at the host.
export const Checks = ({ found }: { found: HostChecks }) => (
  <ul className="mt-2 max-w-4xl border-l-2 border-line-strong pl-3 text-[13px]">
    {found.checks.map((c) => (
      <li
        key={c.id}
        className="grid grid-cols-[3rem_minmax(0,1fr)] gap-x-3 sm:grid-cols-[3.5rem_minmax(0,13rem)_minmax(0,1fr)]"
      >
        <span className={c.passed ? "text-pass" : "font-semibold text-fail"}>
          {c.passed ? "pass" : "fail"}
        </span>
        <span>{c.title}</span>
        <span className="min-w-0 break-words text-soft max-sm:col-start-2">
          {c.observed}
          {c.remedy && <span className="block text-ink">→ {c.remedy}</span>}
        </span>
      </li>
    ))}
  </ul>
)

// usePull fetches an account, and makes what came a site.
function usePull(account: string) {
  const [asked, setAsked] = useState<{ fetch: string; site: string }>()
  const [fault, setFault] = useState<string>()
  const [made, setMade] = useState<string>()
  const watched = useOperation(asked?.fetch)
  const begin = async (site: string, mask: boolean) => {
    setFault(undefined)
    setMade(undefined)
    try {
      const body = { dry_run: !site, mask }
      const operation = await answer(
        api.POST("/api/v1/accounts/{name}/fetch", { ...of({ name: account }), body }),
      )
      setAsked({ fetch: operation.id, site })
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
function Pull({ account: a }: { account: Account }) {
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
      <label className="mt-1 flex items-baseline gap-1.5">
        <input
          type="checkbox"
          name="pull-mask"
          className="translate-y-0.5 accent-(--accent)"
          checked={mask}
          onChange={(e) => setMask(e.target.checked)}
        />
        make people unrecognisable before they leave the host
      </label>
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
        <Word disabled={running} onClick={() => void pull.begin("", false)}>
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
      {pull.watched?.state === "running" && (
        <p className="text-accent">
          {doing?.text || "connecting"}
          {doing && doing.fraction > 0 && ` ${Math.floor(doing.fraction * 100)} %`}
        </p>
      )}
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

const megabytes = (bytes: number) => `${(bytes / 1e6).toFixed(1)} MB`

const Result = ({ found: f }: { found: Fetched }) => (
  <>
    <p className="mt-1">
      {f.cms?.name} {f.cms?.version} on PHP {f.php}, {f.database}: {f.files} files ({megabytes(f.file_bytes)}
      ). Here {f.new} are new, {f.changed} changed, {f.gone} gone: {megabytes(f.carry_bytes)} to carry.
    </p>
    {f.warnings?.map((w) => (
      <p key={w}>→ {w}</p>
    ))}
  </>
)
