// New site: a row of the fleet that unfolds. As the name is typed, everything derived from it appears and can be changed in place.
import { useQuery, keepPreviousData } from "@tanstack/react-query"
import { useEffect, useId, useState, type FormEvent, type ReactNode } from "react"
import { call, queries, Refusal, told, useDefaults, useEngines, useKits, useShelf, useSites, useStencils, type Derived, type Operation, type Problem, type Request } from "./api"
import { Button, Notice, Word } from "./ui"

type TextField = { [K in keyof Request]-?: Request[K] extends string | undefined ? K : never }[Exclude<keyof Request, "$schema">]
// Fields whose problems stand beside them.
const shownFields = ["name", "title", "admin", "admin_email", "admin_password", "domain", "port", "folder", "group", "database_name", "database_user", "prefix", "archive", "adopt", "sql", "language", "time_zone", "domains", "network", "sub_sites"]

// late returns a value once it has rested for a moment.
function useLate<T>(value: T, milliseconds: number): T {
  const [late, setLate] = useState(value)
  useEffect(() => {
    const timer = setTimeout(() => setLate(value), milliseconds)
    return () => clearTimeout(timer)
  }, [value, milliseconds])
  return late
}

// What a site can be made of. Each needs one further word, except a kit.
const origins = [
  ["stencil", "A stencil"],
  ["copy_of", "Another site"],
  ["archive", "A release archive"],
  ["adopt", "A folder of mine"],
] as const

type Origin = (typeof origins)[number][0]

export function NewSite({ onClose }: { onClose: () => void }) {
  const [request, setRequest] = useState<Request>({ name: "" })
  const [origin, setOrigin] = useState<Origin>()
  const [more, setMore] = useState(false)
  const [refused, setRefused] = useState<Problem[]>([])
  const [fault, setFault] = useState<string>()
  const [kept, setKept] = useState(false)
  const [sending, setSending] = useState(false)
  const engines = useEngines().data?.engines ?? []
  const kits = (useKits().data?.kits ?? []).filter((k) => k.versions.length > 0)
  const stencils = useStencils().data ?? []
  const sites = useSites().data ?? []
  const shelf = useShelf().data?.items ?? []
  const defaults = useDefaults().data?.settings ?? []
  const defaultOf = (name: string) => defaults.find((d) => d.name === name)?.value ?? ""
  const settled = useLate(request, 140)
  const derived = useQuery({
    queryKey: ["derive", settled],
    queryFn: () => call<Derived>("POST", "/sites/derive", { sites: [settled] }),
    enabled: settled.name !== "",
    placeholderData: keepPreviousData,
    staleTime: 0,
  })
  const named = request.name !== ""
  const would = named ? derived.data?.sites[0] : undefined
  const incomplete = origin !== undefined && !request[origin]
  const problems = named ? [...(derived.data?.problems ?? []), ...refused] : []
  const of = (field: string) => problems.find((p) => p.field === field)
  const kit = kits.find((k) => k.name === (request.kit ?? would?.kit.name ?? kits[0]?.name))
  const edit = (next: Partial<Request>) => {
    setRefused([])
    setKept(false)
    setRequest((r) => ({ ...r, ...next }))
  }
  const change = (field: TextField | "port", value: string) => edit({ [field]: field === "port" ? Number(value) || undefined : field === "name" ? value : value || undefined })
  const madeOf = (next: Origin | undefined, name?: string) => {
    setOrigin(next)
    edit({ stencil: undefined, copy_of: undefined, archive: undefined, adopt: undefined, sql: undefined, kit_version: undefined, finishing_touches: undefined, language: undefined, network: undefined, sub_sites: undefined, plugins: undefined, themes: undefined, kit: name })
  }
  const create = async (event: FormEvent) => {
    event.preventDefault()
    if (!named || incomplete || problems.length > 0 || sending) return
    setSending(true)
    try {
      await call<Operation>("POST", "/sites", { sites: [request] })
      await queries.invalidateQueries()
      onClose()
    } catch (error) {
      setSending(false)
      if (error instanceof Refusal && error.problems.length) setRefused(error.problems)
      else setFault(told(error))
    }
  }
  const keep = async () => {
    const settings = Object.fromEntries((["admin", "admin_email", "kit", "kit_version", "php", "web", "database", "group", "language", "time_zone"] as const).filter((f) => request[f]).map((f) => [f, request[f]!]))
    if (request.finishing_touches) settings.finishing_touches = request.finishing_touches.join(",")
    try {
      await call("PUT", "/defaults", { settings })
      setKept(true)
    } catch (error) {
      setFault(told(error))
    }
  }
  const input = (field: TextField | "port", label: string, derivedValue: string | number | undefined, extra: { type?: string } = {}) => (
    <Input key={field} label={label} value={request[field] ?? ""} derived={derivedValue === undefined ? "" : String(derivedValue)} problem={of(field)} onChange={(v) => change(field, v)} {...extra} />
  )
  const choice = (field: TextField, label: string, options: [string, string][], value?: string) => (
    <label className="block min-w-0">
      <span className="text-[13px] text-soft">{label}</span>
      <select name={field} value={request[field] ?? value ?? ""} onChange={(e) => change(field, e.target.value)} className="w-full border-b border-line-strong bg-transparent py-1 font-mono text-[13px]">
        {options.map(([id, text]) => <option key={id} value={id}>{text}</option>)}
      </select>
    </label>
  )
  const engine = (field: TextField, label: string, kind: string, value?: string) => choice(field, label, engines.filter((e) => e.kind === kind).map((e) => [e.id, e.version ? `${e.id} (${e.version})` : e.id]), value)
  const touches = request.finishing_touches ?? []
  return (
    <form onSubmit={create} onKeyDown={(e) => e.key === "Escape" && onClose()} aria-label="New site" className="border-b border-line-strong border-l-4 border-l-accent bg-sheet px-5 pb-5 pt-4">
      <div className="flex items-end gap-6">
        <NameField value={request.name} problem={of("name")} onChange={(v) => change("name", v)} />
        <div className="min-w-0 grow pb-1">
          <p className="truncate text-[22px] font-semibold">{would?.title ?? <span className="text-skip">Its title</span>}</p>
          <p className="truncate font-mono text-[13px] text-soft">{would ? would.url : "http://name.localhost/"}</p>
        </div>
        <div className="flex items-center gap-4 pb-1">
          <Word onClick={onClose} className="text-soft">Close</Word>
          <Button type="submit" tone="strong" disabled={!named || incomplete || problems.length > 0 || sending || derived.isPlaceholderData || settled !== request}>
            Make this site
          </Button>
        </div>
      </div>
      {fault && <Notice tone="fail">{fault}</Notice>}
      <fieldset className="mt-3 flex flex-wrap items-baseline gap-x-5 gap-y-1">
        <legend className="sr-only">Made of</legend>
        <span className="text-[13px] text-soft">Made of</span>
        {kits.map((k) => (
          <label key={k.name} title={k.about} className="flex items-center gap-1.5"><input type="radio" name="made-of" className="accent-(--accent)" checked={origin === undefined && kit?.name === k.name} onChange={() => madeOf(undefined, k.name)} /> {k.title}</label>
        ))}
        {origins.map(([id, label]) => (
          <label key={id} className="flex items-center gap-1.5"><input type="radio" name="made-of" value={id} className="accent-(--accent)" checked={origin === id} onChange={() => madeOf(id)} /> {label}</label>
        ))}
      </fieldset>
      {origin && (
        <div className="mt-3 grid grid-cols-[minmax(0,1fr)_minmax(0,1fr)] gap-x-7">
          {origin === "stencil" && choice("stencil", stencils.length ? "Which stencil" : "There are no stencils yet: save a site as one on its page", [["", "choose…"], ...stencils.map((s): [string, string] => [s.name, `${s.name}, ${s.kit.name} ${s.kit.version}`])])}
          {origin === "copy_of" && choice("copy_of", "Which site", [["", "choose…"], ...sites.map((s): [string, string] => [s.name, `${s.name}, ${s.kit.name} ${s.kit.version}`])])}
          {origin === "archive" && input("archive", "Release archive on this machine (.zip, .tar.gz, .tar.zst)", "/home/ines/downloads/cms-2.1.zip")}
          {origin === "adopt" && input("adopt", "Folder on this machine, used where it stands", "/home/ines/sites/old-one")}
          {(origin === "archive" || origin === "adopt") && input("sql", "A dump to load, if there is one", "none")}
          <p className="col-span-2 mt-1 text-[13px] text-soft">{{
            stencil: "Its files and content, with a title, administrator, password, secrets and table prefix of the new site's own.",
            copy_of: "Its files and content as they are now, re-addressed, with an administrator and secrets of its own. The site itself is not touched.",
            archive: "It is unpacked into the site's folder; the CMS's own installer then asks for the database, which stands on the site's page.",
            adopt: "Nothing is copied. Only its configuration is changed, to name the site's own database, and given back when the site is retired.",
          }[origin]}{origin === "adopt" && (derived.data?.plans[0]?.changes ?? []).map((c) => <code key={c} className="block font-mono">{c}</code>)}</p>
        </div>
      )}
      <div className={`mt-4 grid grid-cols-4 gap-x-7 gap-y-4 ${named ? "" : "opacity-55"}`}>
        {input("title", "Title", would?.title)}
        {origin !== "adopt" && origin !== "archive" ? input("admin", "Administrator", would?.admin.user) : input("group", "Group", "none")}
        {engine("php", "PHP", "php", would?.stack.php.engine)}
        {origin === undefined && kit && kit.versions.length > 1 ? choice("kit_version", kit.title, [...kit.versions, "newest"].map((v) => [v, v]), would?.kit.version) : engine("web", "Web server", "web", would?.stack.web.engine)}
      </div>
      {more && (
        <div className={named ? "" : "opacity-55"}>
          <Part title="Content">
            {kit && kit.languages.length > 1 ? choice("language", "Language", [["", `${kit.languages[0]}, its own`], ...kit.languages.slice(1).map((l): [string, string] => [l, l])]) : input("language", "Language", kit?.name === "wordpress" ? "en_US; others are fetched" : "its own")}
            {input("time_zone", "Time zone", defaultOf("time_zone") || "UTC")}
            <label className="flex items-center gap-2 self-end pb-1"><input type="checkbox" className="accent-(--accent)" checked={request.search_engines ?? false} onChange={(e) => edit({ search_engines: e.target.checked || undefined })} /> Search engines may list it</label>
            <label className="flex items-center gap-2 self-end pb-1" title="What it asks of other machines is refused at once, so that pages do not wait for a network that is not there"><input type="checkbox" name="offline" className="accent-(--accent)" checked={request.offline ?? false} onChange={(e) => edit({ offline: e.target.checked || undefined })} /> It works offline</label>
            {(["plugin", "theme"] as const).map((kind) => {
              const field = kind === "plugin" ? "plugins" : "themes"
              const there = shelf.filter((i) => i.kind === kind && i.kit === kit?.name && !i.fault).map((i) => i.name).filter((n, i, all) => all.indexOf(n) === i)
              return there.length > 0 && (
                <fieldset key={kind} className="col-span-2 min-w-0">
                  <legend className="text-[13px] text-soft">{kind === "plugin" ? "Plugins of the shelf, active from the start" : "Themes of the shelf; the first is the active one"}</legend>
                  <div className="flex flex-wrap gap-x-5">
                    {there.map((name) => <label key={name} className="flex items-center gap-1.5"><input type="checkbox" name={`${kind}-${name}`} className="accent-(--accent)" checked={request[field]?.includes(name) ?? false} onChange={(e) => edit({ [field]: e.target.checked ? [...(request[field] ?? []), name] : request[field]?.filter((x) => x !== name) })} /> {name}</label>)}
                  </div>
                </fieldset>
              )
            })}
          </Part>
          <Part title="Address and folder">
            {input("domain", "Domain", would?.domain)}
            <Input label="Further domains" value={(request.domains ?? []).join(" ")} derived="none" problem={of("domains")} onChange={(v) => edit({ domains: v.split(/[ ,]+/).filter(Boolean).length ? v.split(/[ ,]+/) : undefined })} />
            {input("port", "Own port", would?.port || "")}
            {input("folder", "Folder", would?.folder)}
            {input("group", "Group", defaultOf("group") || "none")}
            {origin === undefined && (kit?.networks.length ?? 0) > 0 && choice("network", "Sites in it", [["", "one"], ...kit!.networks.map((m): [string, string] => [m, m === "folders" ? "several, by sub-folder" : "several, by sub-domain"])])}
            {request.network && <Input label="Sub-sites made at once" value={(request.sub_sites ?? []).join(" ")} derived="none, such as north south" problem={of("sub_sites")} onChange={(v) => edit({ sub_sites: v.split(/[ ,]+/).filter(Boolean).length ? v.split(/[ ,]+/) : undefined })} />}
            {request.network && <p className="self-end pb-1 text-[13px] text-soft">{request.network === "folders" ? `${would?.url ?? "http://name.localhost/"}north/` : (would?.url ?? "http://name.localhost/").replace("//", "//north.")}</p>}
          </Part>
          <Part title="Administrator, engines, database">
            {input("admin_email", "Mail address", would?.admin.email)}
            {input("admin_password", "Password", "generated, 28 characters", { type: "password" })}
            {engine("web", "Web server", "web", would?.stack.web.engine)}
            {engine("database", "Database server", "database", would?.stack.database.engine)}
            {input("database_name", "Database", would?.database.name)}
            {input("database_user", "Database user", would?.database.user)}
            {input("prefix", "Table prefix", "generated, such as k3xw_")}
          </Part>
          {origin === undefined && (kit?.finishing_touches.length ?? 0) > 0 && (
            <Part title="Finishing touches, applied before it starts">
              <div className="col-span-4 grid grid-cols-2 gap-x-7 gap-y-0.5">
                {kit!.finishing_touches.map((t) => {
                  const asked = touches.find((x) => x.split("=")[0] === t.name)
                  const put = (value?: string) => edit({ finishing_touches: [...touches.filter((x) => x !== asked), ...(value === undefined ? [] : [t.value ? `${t.name}=${value}` : t.name])] })
                  return (
                    <div key={t.name} className="flex min-w-0 items-baseline gap-2">
                      <label className="flex shrink-0 items-baseline gap-2"><input type="checkbox" name={"touch-" + t.name} className="translate-y-0.5 accent-(--accent)" checked={asked !== undefined} onChange={(e) => put(e.target.checked ? t.example ?? "" : undefined)} /> {t.about || t.name}{t.own && <span className="text-[13px] text-soft">(your own)</span>}</label>
                      {t.value && asked !== undefined && <input aria-label={t.value} title={t.value} value={asked.slice(t.name.length + 1)} onChange={(e) => put(e.target.value)} className="min-w-0 grow border-b border-line-strong bg-transparent font-mono text-[13px]" />}
                    </div>
                  )
                })}
              </div>
            </Part>
          )}
        </div>
      )}
      {problems.filter((p) => !shownFields.includes(p.field)).map((p) => <p key={p.field + p.message} role="alert" className="mt-2 text-[13px] text-fail">{p.field}: {p.message}; {p.remedy}</p>)}
      <p className="mt-4 flex flex-wrap gap-x-5 text-[13px] text-soft">
        <Word aria-expanded={more} onClick={() => setMore(!more)}>{more ? "Fewer choices" : "All choices"}</Word>
        <Word onClick={keep} disabled={kept}>{kept ? "These are the defaults now" : "Make these my defaults"}</Word>
        <span>What is printed grey is derived from the name; write over any of it. Enter makes the site, Escape closes.</span>
      </p>
    </form>
  )
}

// Part is one of the further choices' groups.
function Part({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="mt-5 border-t border-line pt-2">
      <h3 className="mb-1.5 text-[13px] font-semibold">{title}</h3>
      <div className="grid grid-cols-4 gap-x-7 gap-y-3">{children}</div>
    </section>
  )
}

function NameField({ value, problem, onChange }: { value: string; problem?: Problem; onChange: (value: string) => void }) {
  const id = useId()
  return (
    <div className="w-80 shrink-0">
      <label htmlFor={id} className="text-[13px] text-soft">Name of the new site</label>
      <input id={id} name="name" autoFocus autoComplete="off" spellCheck={false} value={value} onChange={(e) => onChange(e.target.value)} placeholder="orchard-days" aria-invalid={!!problem} aria-describedby={id + "-problem"} className={`w-full border-b-2 bg-transparent pb-1 font-mono text-[20px] placeholder:text-skip ${problem ? "border-fail" : "border-ink"}`} />
      <p id={id + "-problem"} role="alert" className="min-h-5 pt-0.5 text-[13px] leading-tight text-fail">{problem && `${problem.message}; ${problem.remedy}`}</p>
    </div>
  )
}

function Input({ label, value, derived, problem, onChange, type = "text" }: { label: string; value: string | number; derived: string; problem?: Problem; onChange: (value: string) => void; type?: string }) {
  const id = useId()
  return (
    <div className="min-w-0">
      <label htmlFor={id} className="text-[13px] text-soft">{label}</label>
      <input id={id} type={type} autoComplete="off" spellCheck={false} value={value} placeholder={derived} title={value === "" ? derived : undefined} onChange={(e) => onChange(e.target.value)} aria-invalid={!!problem} aria-describedby={problem ? id + "-problem" : undefined} className={`w-full border-b bg-transparent py-1 font-mono text-[13px] placeholder:text-soft ${problem ? "border-fail" : "border-line-strong"}`} />
      {problem && <p id={id + "-problem"} role="alert" className="pt-0.5 text-[13px] leading-tight text-fail">{problem.message}; {problem.remedy}</p>}
    </div>
  )
}
