// A site: its report strip, enlarged, is the page's spine. Each cell unfolds its evidence, the facts that it proves, and the actions
// that belong to them.
import { useQuery } from "@tanstack/react-query"
import { ToggleGroup } from "radix-ui"
import { useState, type ReactNode } from "react"
import { Link, useLocation } from "wouter"
import { call, queries, told, useKits, useLive, useOperations, useReports, useSites, type Result, type SettingsData, type Site, type Tally, type User } from "./api"
import { ChangeStack } from "./Stack"
import { checks, summary, verdictOf, type Shown } from "./Strip"
import { Button, Mono, Notice, Retire, stateOf, useAsk, Word } from "./ui"

const groups = [
  { title: "Address", checks: ["web-answers", "domain-routes", "front-page", "assets"] },
  { title: "Administrator", checks: ["sign-in"] },
  { title: "Stack", checks: ["php-version", "web-version", "database-version"] },
  { title: "Database", checks: ["database-private"] },
  { title: "Folder", checks: ["files-private"] },
] as const

export function SitePage({ name }: { name: string }) {
  const sites = useSites()
  const report = useReports().data?.get(name)
  const live = useLive().get(name)
  const { send, fault } = useAsk()
  const [, go] = useLocation()
  const [open, setOpen] = useState<string>()
  const s = sites.data?.find((each) => each.name === name)
  if (!s) {
    if (sites.isLoading) return <div className="h-40 animate-pulse bg-wash" aria-busy />
    return (
      <>
        <h1 className="text-2xl font-semibold">There is no site {name}</h1>
        <p className="mt-2">It may have been retired. <Link href="/" className="underline underline-offset-4">See the fleet</Link>.</p>
      </>
    )
  }
  const verifying = live?.text === "verifying"
  const shown = verifying ? live.report : live?.kind === "new" || s.state === "stopped" ? undefined : report
  const firstFault = shown?.checks.find((c) => c.verdict === "fail")?.id
  const current = open ?? firstFault ?? "front-page"
  const running = s.state === "running" || s.state === "failed"
  return (
    <>
      <p className="text-[13px] text-soft"><Link href="/" className="underline decoration-line-strong underline-offset-4">Fleet</Link> / {s.name}</p>
      <h1 className="mt-1 text-[34px] font-bold leading-tight tracking-tight">{s.title}</h1>
      <p className="mt-1 flex flex-wrap items-baseline gap-x-5 gap-y-1" aria-live="polite">
        <span className={s.state === "failed" ? "font-semibold text-fail" : "font-semibold"}>
          {live ? <span className="text-accent">{live.text}</span> : stateOf(s)}
        </span>
        <span className="text-soft">{summary(shown)}</span>
        <span className="text-soft">made {new Date(s.created_at).toLocaleString("sv").slice(0, 16)}</span>
        {running ? <Word disabled={!!live} onClick={() => send("stop", [name])}>stop it</Word> : <Word disabled={!!live} onClick={() => send("start", [name])}>start it</Word>}
        {s.state === "failed" && <Word disabled={!!live} onClick={() => send("start", [name])}>start it again</Word>}
        <Word disabled={!!live || !running} onClick={() => send("verify", [name])}>verify again</Word>
        <Retire sites={[s]} trigger={<Word disabled={!!live} className="text-fail">retire…</Word>} onRetire={(keep) => send("retire", [name], keep).then(() => go("/"))} />
      </p>
      <About key={s.group + s.note} site={s} />
      {fault && <Notice tone="fail">{fault}</Notice>}
      {s.reason && <Notice tone="fail"><span className="font-mono text-[13px] break-words">{s.reason}</span></Notice>}

      <ToggleGroup.Root type="single" value={current} onValueChange={(value) => value && setOpen(value)} aria-label="Report, one cell a check" className="mt-6 grid grid-cols-10 gap-1.5">
        {groups.map((g) => (
          <div key={g.title} className="contents">
            <div style={{ gridColumn: `span ${g.checks.length}` }} className="min-w-0">
              <div className="mb-1.5 border-b border-line-strong pb-1 text-[13px] font-semibold">{g.title}</div>
              <div className="grid gap-1.5" style={{ gridTemplateColumns: `repeat(${g.checks.length}, minmax(0, 1fr))` }}>
                {g.checks.map((id) => (
                  <Cell key={id} id={id} verdict={verdictOf(id, shown, verifying)} result={shown?.checks.find((c) => c.id === id)} current={current === id} />
                ))}
              </div>
            </div>
          </div>
        ))}
      </ToggleGroup.Root>
      <Evidence site={s} id={current} result={shown?.checks.find((c) => c.id === current)} busy={!!live} />
      <Done name={name} />
    </>
  )
}

// Done is what was done with this site lately, with the steps of each.
function Done({ name }: { name: string }) {
  const operations = (useOperations().data ?? []).filter((o) => o.sites.some((part) => part.site === name) || o.change?.rename === name).slice(0, 6)
  if (operations.length === 0) return null
  return (
    <section className="mt-8">
      <h2 className="mb-1 text-[15px] font-semibold">What was done</h2>
      <ol>
        {operations.map((o) => {
          const part = o.sites.find((each) => each.site === name) ?? o.sites[0]
          return (
            <li key={o.id} className="grid grid-cols-[11.5rem_5rem_5rem_1fr] items-baseline gap-x-4 border-t border-line py-1.5">
              <Mono className="text-soft">{new Date(o.created_at).toLocaleString("sv")}</Mono>
              <span className="font-medium">{o.kind}</span>
              <span className={part.state === "failed" ? "text-fail" : "text-soft"}>{part.state}</span>
              <span className="min-w-0 break-words font-mono text-[12.5px] text-soft">
                {part.problem || part.steps.map((step) => `${step.step} ${step.milliseconds} ms`).join(", ")}
              </span>
            </li>
          )
        })}
      </ol>
    </section>
  )
}

const title = (id: string) => checks.find(([each]) => each === id)?.[1] ?? id

function Cell({ id, verdict, result, current }: { id: string; verdict: Shown; result?: Result; current: boolean }) {
  return (
    <ToggleGroup.Item value={id} data-check={id} data-shown={verdict} className={`group flex h-full flex-col text-left ${current ? "" : "opacity-85 hover:opacity-100"}`}>
      <span className="cell cell-large h-9 w-full" data-verdict={verdict} />
      <span className={`mt-1 grow border-l-2 pl-1.5 text-[13px] leading-tight ${current ? "border-accent font-semibold" : "border-transparent"}`}>
        {title(id)}
        <span className="block font-mono text-[11.5px] font-normal text-soft">{result ? (result.verdict === "skip" ? "skipped" : `${result.verdict} ${result.milliseconds} ms`) : verdict === "active" ? "asking" : "not asked"}</span>
      </span>
    </ToggleGroup.Item>
  )
}

function Evidence({ site: s, id, result, busy }: { site: Site; id: string; result?: Result; busy: boolean }) {
  const group = groups.find((g) => (g.checks as readonly string[]).includes(id))!
  return (
    <section aria-live="polite" aria-label={title(id)} className="mt-5 grid grid-cols-[minmax(0,1.15fr)_minmax(0,1fr)] border border-line-strong bg-sheet">
      <div className="border-r border-line p-5">
        <h2 className="mb-3 text-xl font-semibold">{title(id)}</h2>
        {result ? (
          <dl className="grid grid-cols-[5.5rem_1fr] gap-x-3 gap-y-2.5">
            <Fact name="verdict">{result.verdict === "fail" ? <b className="text-fail">failed</b> : result.verdict === "pass" ? "passed" : "skipped"}</Fact>
            <Fact name="expected">{result.expected || "–"}</Fact>
            <Fact name="observed">{result.observed}</Fact>
            {result.remedy && <Fact name="remedy"><b className="font-semibold">{result.remedy}</b></Fact>}
            <Fact name="took">{result.milliseconds} ms</Fact>
          </dl>
        ) : (
          <p className="text-soft">{s.state === "stopped" ? "The site is stopped: start it, and it is asked." : "It has not been asked yet."}</p>
        )}
      </div>
      <div className="p-5">
        <h2 className="mb-3 text-xl font-semibold">{group.title}</h2>
        <Facts site={s} group={group.title} busy={busy} />
      </div>
    </section>
  )
}

const Fact = ({ name, children }: { name: string; children: ReactNode }) => (
  <>
    <dt className="text-[13px] text-soft">{name}</dt>
    <dd className="min-w-0 break-words">{children}</dd>
  </>
)

function Facts({ site: s, group, busy }: { site: Site; group: (typeof groups)[number]["title"]; busy: boolean }) {
  const settings = useQuery({ queryKey: ["settings", s.name], queryFn: () => call<SettingsData>("GET", `/sites/${s.name}/settings`), enabled: group === "Folder" }).data?.settings
  const lead = (page: string, text: string) => <Link href={`/sites/${s.name}/${page}`} className="font-medium underline decoration-accent decoration-2 underline-offset-4 hover:text-accent">{text}</Link>
  const list = (rows: ReactNode) => <dl className="grid grid-cols-[7rem_1fr] gap-x-3 gap-y-2">{rows}</dl>
  switch (group) {
    case "Address":
      return (
        <>
          {list(
            <>
              <Fact name="address"><Mono>{s.url}</Mono>{s.domain_unicode && <span className="block text-[13px] text-soft">{s.domain_unicode}</span>}</Fact>
              <Domains site={s} />
              {s.network && <Fact name={s.network === "folders" ? "by sub-folder" : "by sub-domain"}>{(s.sub_sites ?? []).map((each) => <a key={each} href={each} target="_blank" rel="noreferrer" className="block font-mono text-[13px] underline decoration-line-strong underline-offset-4 hover:text-accent">{each}</a>)}{!s.sub_sites?.length && "no sub-site was made with it"}</Fact>}
              <Fact name="own port"><Mono>127.0.0.1:{s.port}</Mono></Fact>
              <Fact name="title">{s.title}</Fact>
              {(s.language || s.time_zone || s.offline) && <Fact name="made with">{[s.language, s.time_zone, s.offline && "works offline"].filter(Boolean).join(", ")}</Fact>}
            </>,
          )}
          <p className="mt-4 flex flex-wrap items-baseline gap-x-6 gap-y-2"><a href={s.url} target="_blank" rel="noreferrer" className="font-medium underline decoration-accent decoration-2 underline-offset-4 hover:text-accent">Open the site</a><Rename site={s} busy={busy} /></p>
        </>
      )
    case "Administrator":
      if (!s.sign_in) return <p className="text-soft">Nothing is known of signing in to: {s.kit_title}.</p>
      return <>{list(<><Fact name="user"><Mono>{s.admin.user}</Mono></Fact><Fact name="mail"><Mono>{s.admin.email}</Mono></Fact><Secret site={s} read={(f) => f.admin.password} /></>)}<SignIn site={s} /></>
    case "Stack":
      return <><ChangeStack key={s.stack.php.engine + s.stack.web.engine + s.stack.database.engine} site={s} busy={busy} /><p className="mt-4 flex flex-wrap gap-x-6">{lead("settings", "Settings")}{lead("info", "All that it runs on")}{lead("trial", "Try other stacks")}</p></>
    case "Database":
      return list(<><Fact name="database"><Mono>{s.database.name}</Mono></Fact><Fact name="server"><Mono>{s.database.host}:{s.database.port}</Mono></Fact><Fact name="user"><Mono>{s.database.user}</Mono></Fact><Secret site={s} read={(f) => f.database.password} />{s.prefix && <Fact name="table prefix"><Mono>{s.prefix}</Mono></Fact>}<LoadSQL site={s} busy={busy} /></>)
    case "Folder":
      return <>{list(<><Fact name="folder"><Mono className="break-all">{s.folder}</Mono></Fact><Fact name="document root"><Mono className="break-all">{s.document_root}</Mono></Fact>{(settings?.allow ?? []).map((dir) => <Fact key={dir} name="may also use"><Mono className="break-all">{dir}</Mono></Fact>)}</>)}{s.origin?.kind && <p className="mt-3 text-[13px] text-soft">{{ stencil: "Drawn from the stencil", site: "A copy of the site", archive: "Unpacked from", folder: "Adopted where it stands:" }[s.origin.kind] ?? s.origin.kind} <Mono className="break-all">{s.origin.from}</Mono></p>}<p className="mt-4 flex flex-wrap items-baseline gap-x-6 gap-y-2">{lead("logs", "Logs")}<SaveAs site={s} busy={busy} /></p><Commands site={s} /></>
  }
}

// About is what its owner says of it: group, note, and whether it is kept on top.
function About({ site: s }: { site: Site }) {
  const [group, setGroup] = useState(s.group)
  const [note, setNote] = useState(s.note)
  const set = async (change: { group?: string; note?: string; top?: boolean }) => {
    await call("POST", "/sites/label", { names: [s.name], ...change })
    await queries.invalidateQueries()
  }
  const looks = "border-b border-transparent bg-transparent placeholder:text-skip hover:border-line-strong focus:border-line-strong"
  return (
    <form className="mt-1 flex items-baseline gap-x-5 text-[14px]" onSubmit={(e) => { e.preventDefault(); set({ group, note }) }}>
      <input name="group" value={group} onChange={(e) => setGroup(e.target.value)} onBlur={() => group !== s.group && set({ group })} placeholder="in no group" aria-label="Group" className={`w-44 ${looks}`} />
      <input name="note" value={note} onChange={(e) => setNote(e.target.value)} onBlur={() => note !== s.note && set({ note })} placeholder="a note…" aria-label="Note" className={`min-w-0 grow ${looks}`} />
      <label className="flex items-center gap-1.5 text-soft"><input type="checkbox" className="accent-(--accent)" checked={s.top} onChange={(e) => set({ top: e.target.checked })} /> on top</label>
      <button type="submit" className="sr-only">Save</button>
    </form>
  )
}

// SignIn draws a ticket for one of the site's users and follows it at once.
function SignIn({ site: s }: { site: Site }) {
  const users = useQuery({ queryKey: ["users", s.name], queryFn: () => call<User[]>("GET", `/sites/${s.name}/users`), retry: false })
  const [as, setAs] = useState("")
  const [fault, setFault] = useState<string>()
  const known = useKits().data?.kits.find((k) => k.name === s.kit.name)?.signs_in
  if (!known) return null
  const go = async () => {
    const page = window.open("", "_blank")
    try {
      const ticket = await call<{ url: string }>("POST", `/sites/${s.name}/tickets`, { as: as || undefined })
      if (page) page.location.href = ticket.url
      else location.href = ticket.url
    } catch (error) {
      page?.close()
      setFault(told(error))
    }
  }
  const foreign = users.data?.find((u) => u.login === as && u.role === "administrator" && u.login !== s.admin.user)
  const replace = async () => {
    try {
      await call("PUT", `/sites/${s.name}/administrator`, { replace: as })
      setAs("")
      setFault(undefined)
      await queries.invalidateQueries()
    } catch (error) {
      setFault(told(error))
    }
  }
  return (
    <div className="mt-4 flex flex-wrap items-center gap-3">
      <Button tone="strong" disabled={s.state !== "running"} onClick={go}>Sign in</Button>
      <label className="flex items-baseline gap-2 text-[13px] text-soft">
        as
        <select name="as" value={as} onChange={(e) => setAs(e.target.value)} className="border-b border-line-strong bg-transparent py-0.5 font-mono text-[13px] text-ink">
          <option value="">its administrator</option>
          {users.data?.map((u) => <option key={u.login} value={u.login}>{u.login}{u.role && `, ${u.role}`}</option>)}
        </select>
      </label>
      <span className="text-[13px] text-soft">without a password, by a ticket that is good once</span>
      {foreign && <Word className="text-[13px]" title={`${as} becomes ${s.admin.user}, with everything that it wrote and a password of its own`} onClick={replace}>replace by the site's own, {s.admin.user}</Word>}
      {fault && <Notice tone="fail">{fault}</Notice>}
    </div>
  )
}

// Domains are the further ones that the site answers for, and those that it had before.
function Domains({ site: s }: { site: Site }) {
  const [draft, setDraft] = useState<string>()
  const [fault, setFault] = useState<string>()
  const set = async (domains: string[], forget: string[] = []) => {
    try {
      await call("PUT", `/sites/${s.name}/domains`, { domains, forget })
      setDraft(undefined)
      setFault(undefined)
      await queries.invalidateQueries()
    } catch (error) {
      setFault(told(error))
    }
  }
  const further = s.domains ?? []
  return (
    <>
      <Fact name="also answers for">
        {draft === undefined ? (
          <>{further.map((d) => <Mono key={d} className="block">{d}</Mono>)}<Word className="text-[13px]" onClick={() => setDraft(further.join(" "))}>{further.length ? "change…" : "a further domain…"}</Word></>
        ) : (
          <form className="flex items-baseline gap-3" onSubmit={(e) => { e.preventDefault(); set(draft.split(/[ ,]+/).filter(Boolean)) }}>
            <input name="domains" autoFocus value={draft} onChange={(e) => setDraft(e.target.value)} aria-label="Further domains" placeholder="apples.localhost" className="min-w-0 grow border-b border-line-strong bg-transparent font-mono text-[13px] placeholder:text-skip" />
            <Word type="submit">set</Word>
          </form>
        )}
        {fault && <span role="alert" className="block text-[13px] text-fail">{fault}</span>}
      </Fact>
      {(s.forwards ?? []).map((f) => <Fact key={f.domain} name="led here"><Mono>{f.domain}</Mono> <span className="text-[13px] text-soft">until {f.until.slice(0, 10)}</span> <Word className="text-[13px]" onClick={() => set(further, [f.domain])}>forget</Word></Fact>)}
    </>
  )
}

// Rehearsed tells what the rewriter would do, and what it leaves alone.
function Rehearsed({ tally }: { tally: Tally }) {
  const tables = Object.entries(tally.tables)
  return (
    <div className="mt-2 max-h-48 overflow-auto border-l-2 border-line-strong pl-3 text-[13px]">
      <p>{tables.reduce((n, [, c]) => n + c.addresses, 0)} addresses would change{tally.left_count > 0 && `, ${tally.left_count} values be left alone`}.</p>
      {tables.map(([name, c]) => <p key={name} className="text-soft"><Mono>{name}</Mono> {c.addresses} in {c.values} values</p>)}
      {tally.left.map((l, i) => <p key={i} className="text-soft">{l.why}: <Mono className="break-all">{l.excerpt}</Mono></p>)}
    </div>
  )
}

// Rename gives the site another name or domain.
function Rename({ site: s, busy }: { site: Site; busy: boolean }) {
  const [open, setOpen] = useState(false)
  const [name, setName] = useState(s.name)
  const [domain, setDomain] = useState("")
  const [tally, setTally] = useState<Tally>()
  const [fault, setFault] = useState<string>()
  const [, go] = useLocation()
  if (!open) return <Word disabled={busy} onClick={() => setOpen(true)}>another name or domain…</Word>
  const asked = { name: name === s.name ? undefined : name, domain: domain || undefined }
  const send = async (rehearse: boolean) => {
    setFault(undefined)
    try {
      if (rehearse) return setTally(await call<Tally>("POST", `/sites/${s.name}/rename/rehearse`, asked))
      const operation = await call<{ id: string }>("POST", `/sites/${s.name}/rename`, asked)
      setOpen(false)
      go(`/operations#${operation.id}`)
    } catch (error) {
      setFault(told(error))
    }
  }
  const looks = "w-full border-b border-line-strong bg-transparent font-mono text-[13px] text-ink placeholder:text-soft"
  return (
    <form className="w-full border-t border-line pt-3" onSubmit={(e) => { e.preventDefault(); send(false) }}>
      <div className="grid grid-cols-2 gap-x-5">
        <label className="text-[13px] text-soft">Name<input name="new-name" autoFocus value={name} onChange={(e) => { setName(e.target.value); setTally(undefined) }} className={looks} /></label>
        <label className="text-[13px] text-soft">Domain<input name="new-domain" value={domain} onChange={(e) => { setDomain(e.target.value); setTally(undefined) }} placeholder={s.domain.replace(new RegExp(`^${s.name}\\.`), `${name}.`)} className={looks} /></label>
      </div>
      <p className="mt-1 text-[13px] text-soft">Everything in it is re-addressed, and its old domain leads here for 30 days. It goes back by itself when it is worse off.</p>
      {fault && <p role="alert" className="text-[13px] text-fail">{fault}</p>}
      {tally && <Rehearsed tally={tally} />}
      <p className="mt-2 flex items-center gap-4"><Button type="submit" tone="strong" disabled={busy || (!asked.name && !asked.domain)}>Rename</Button><Word disabled={!asked.name && !asked.domain} onClick={() => send(true)}>what would change</Word><Word onClick={() => setOpen(false)}>leave it</Word></p>
    </form>
  )
}

// LoadSQL puts a dump in the place of the database.
function LoadSQL({ site: s, busy }: { site: Site; busy: boolean }) {
  const [open, setOpen] = useState(false)
  const [sql, setSQL] = useState("")
  const [address, setAddress] = useState("")
  const [tally, setTally] = useState<Tally>()
  const [fault, setFault] = useState<string>()
  if (!open) return <dd className="col-span-2 mt-2"><Word disabled={busy} onClick={() => setOpen(true)}>load an SQL file…</Word></dd>
  const send = async (rehearse: boolean) => {
    setFault(undefined)
    try {
      if (rehearse) return setTally(await call<Tally>("POST", `/sites/${s.name}/load/rehearse`, { sql, address: address || undefined }))
      await call("POST", `/sites/${s.name}/load`, { sql, address: address || undefined })
      setOpen(false)
      await queries.invalidateQueries()
    } catch (error) {
      setFault(told(error))
    }
  }
  const looks = "w-full border-b border-line-strong bg-transparent font-mono text-[13px] text-ink placeholder:text-skip"
  return (
    <dd className="col-span-2 mt-2 border-t border-line pt-3">
      <form onSubmit={(e) => { e.preventDefault(); send(false) }}>
        <label className="text-[13px] text-soft">File on this machine, plain or compressed<input name="sql" autoFocus value={sql} onChange={(e) => { setSQL(e.target.value); setTally(undefined) }} placeholder="/home/ines/orchard.sql.gz" className={looks} /></label>
        <label className="mt-1 block text-[13px] text-soft">Base address in it, where it does not tell<input name="sql-address" value={address} onChange={(e) => { setAddress(e.target.value); setTally(undefined) }} placeholder="https://orchard-days.example" className={looks} /></label>
        <p className="mt-1 text-[13px] text-soft">It takes the place of the database, re-addressed to this site. A restore point is taken first.</p>
        {fault && <p role="alert" className="text-[13px] text-fail">{fault}</p>}
        {tally && <Rehearsed tally={tally} />}
        <p className="mt-2 flex items-center gap-4"><Button type="submit" tone="strong" disabled={busy || !sql}>Load</Button><Word disabled={!sql} onClick={() => send(true)}>what would change</Word><Word onClick={() => setOpen(false)}>leave it</Word></p>
      </form>
    </dd>
  )
}

// Commands are what opens the folder outside the browser, which no page may do itself.
function Commands({ site: s }: { site: Site }) {
  const [copied, setCopied] = useState("")
  return (
    <div className="mt-3 grid grid-cols-[7rem_1fr] gap-x-3 gap-y-1 text-[13px]">
      {[["editor", `vessik edit ${s.name}`], ["terminal", `vessik terminal ${s.name}`], ["team's file", `vessik fleet write ${s.name} -content`]].map(([what, command]) => (
        <div key={what} className="contents">
          <span className="text-soft">{what}</span>
          <span><Mono>{command}</Mono> <Word className="ml-2" onClick={() => navigator.clipboard?.writeText(command).then(() => setCopied(what))}>{copied === what ? "copied" : "copy"}</Word></span>
        </div>
      ))}
    </div>
  )
}

// SaveAs saves the site as a stencil.
function SaveAs({ site: s, busy }: { site: Site; busy: boolean }) {
  const [open, setOpen] = useState(false)
  const [as, setAs] = useState("")
  const [fault, setFault] = useState<string>()
  if (!open) return <Word disabled={busy} onClick={() => setOpen(true)}>save as a stencil…</Word>
  return (
    <form className="flex items-baseline gap-2" onSubmit={async (e) => {
      e.preventDefault()
      try {
        await call("POST", `/sites/${s.name}/stencil`, { as })
        setOpen(false)
        await queries.invalidateQueries()
      } catch (error) {
        setFault(told(error))
      }
    }}>
      <input name="stencil" autoFocus value={as} onChange={(e) => setAs(e.target.value)} placeholder="garden-basics" aria-label="Name of the stencil" className="w-44 border-b border-line-strong bg-transparent font-mono text-[13px] placeholder:text-skip" />
      <Word type="submit" disabled={!as}>save</Word>
      {fault && <span className="text-[13px] text-fail">{fault}</span>}
    </form>
  )
}

// Secret is asked for only when somebody wants to see it.
function Secret({ site: s, read }: { site: Site; read: (full: Site) => string | undefined }) {
  const [shown, show] = useState(false)
  const full = useQuery({ queryKey: ["secret", s.name], queryFn: () => call<Site>("GET", `/sites/${s.name}?secrets=true`), enabled: shown, gcTime: 0 })
  return (
    <Fact name="password">
      {shown && full.data ? <Mono className="select-all break-all">{read(full.data)}</Mono> : <Word onClick={() => show(true)}>show</Word>}
    </Fact>
  )
}
