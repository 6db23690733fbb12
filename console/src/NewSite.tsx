// New site: a row of the fleet that unfolds. As the name is typed, everything derived from it appears and can be changed in place.
import { useQuery, keepPreviousData } from "@tanstack/react-query"
import { useEffect, useId, useState, type FormEvent } from "react"
import { call, queries, Refusal, useEngines, type Derived, type Operation, type Problem, type Request } from "./api"
import { Button, Notice, Word } from "./ui"

type Field = Exclude<keyof Request, "$schema">

// late returns a value once it has rested for a moment.
function useLate<T>(value: T, milliseconds: number): T {
  const [late, setLate] = useState(value)
  useEffect(() => {
    const timer = setTimeout(() => setLate(value), milliseconds)
    return () => clearTimeout(timer)
  }, [value, milliseconds])
  return late
}

export function NewSite({ onClose }: { onClose: () => void }) {
  const [request, setRequest] = useState<Request>({ name: "" })
  const [refused, setRefused] = useState<Problem[]>([])
  const [fault, setFault] = useState<string>()
  const [sending, setSending] = useState(false)
  const engines = useEngines().data?.engines ?? []
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
  const problems = named ? [...(derived.data?.problems ?? []), ...refused] : []
  const of = (field: Field) => problems.find((p) => p.field === field)
  const change = (field: Field, value: string) => {
    setRefused([])
    setRequest((r) => {
      const next = { ...r, [field]: field === "port" ? Number(value) || undefined : value || undefined }
      return { ...next, name: next.name ?? "" }
    })
  }
  const create = async (event: FormEvent) => {
    event.preventDefault()
    if (!named || problems.length > 0 || sending) return
    setSending(true)
    try {
      await call<Operation>("POST", "/sites", { sites: [request] })
      await queries.invalidateQueries()
      onClose()
    } catch (error) {
      setSending(false)
      if (error instanceof Refusal && error.problems.length) setRefused(error.problems)
      else setFault(String(error instanceof Error ? error.message : error))
    }
  }
  const input = (field: Field, label: string, derivedValue: string | number | undefined, extra: { type?: string } = {}) => (
    <Input key={field} label={label} value={request[field] ?? ""} derived={derivedValue === undefined ? "" : String(derivedValue)} problem={of(field)} onChange={(v) => change(field, v)} {...extra} />
  )
  const choice = (field: Field, label: string, kind: string, value?: string) => (
    <label className="block min-w-0">
      <span className="text-[13px] text-soft">{label}</span>
      <select value={request[field] ?? value ?? ""} onChange={(e) => change(field, e.target.value)} className="w-full border-b border-line-strong bg-transparent py-1 font-mono text-[13px]">
        {engines.filter((e) => e.kind === kind).map((e) => <option key={e.id} value={e.id}>{e.id}{e.version && ` (${e.version})`}</option>)}
      </select>
    </label>
  )
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
          <Button type="submit" tone="strong" disabled={!named || problems.length > 0 || sending || derived.isPlaceholderData || settled !== request}>
            Make this site
          </Button>
        </div>
      </div>
      {fault && <Notice tone="fail">{fault}</Notice>}
      <div className={`mt-4 grid grid-cols-4 gap-x-7 gap-y-4 ${named ? "" : "opacity-55"}`}>
        {input("title", "Title", would?.title)}
        {input("domain", "Domain", would?.domain)}
        {input("port", "Own port", would?.port || "")}
        {input("folder", "Folder", would?.folder)}
        {input("admin", "Administrator", would?.admin.user)}
        {input("admin_email", "Mail address", would?.admin.email)}
        {input("admin_password", "Password", "generated, 28 characters", { type: "password" })}
        {choice("php", "PHP", "php", would?.stack.php.engine)}
        {input("database_name", "Database", would?.database.name)}
        {input("database_user", "Database user", would?.database.user)}
        {choice("database", "Database server", "database", would?.stack.database.engine)}
        {choice("web", "Web server", "web", would?.stack.web.engine)}
        <label className="block min-w-0">
          <span className="text-[13px] text-soft">WordPress</span>
          <select value={request.kit_version ?? would?.kit.version ?? ""} onChange={(e) => change("kit_version", e.target.value)} className="w-full border-b border-line-strong bg-transparent py-1 font-mono text-[13px]">
            {engines.filter((e) => e.kind === "release").map((e) => e.id.replace("wordpress-", "")).map((version) => <option key={version}>{version}</option>)}
          </select>
        </label>
      </div>
      <p className="mt-4 text-[13px] text-soft">
        What is printed grey is derived from the name; write over any of it. Enter makes the site, Escape closes.
      </p>
    </form>
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
