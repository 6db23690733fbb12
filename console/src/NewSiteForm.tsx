// What the form for a new site is filled with, what would become of that, and its inputs.
import { useQuery, keepPreviousData } from "@tanstack/react-query"
import { useEffect, useState } from "react"
import {
  answer,
  api,
  useDefaults,
  useEngines,
  useCMS,
  useShelf,
  useSites,
  useStencils,
  type Problem,
  type Request,
} from "./api"
import { Input } from "./Field"

type TextField = { [K in keyof Request]-?: Request[K] extends string | undefined ? K : never }[Exclude<
  keyof Request,
  "$schema"
>]
// Field is one that is written as text: a request's own, or one of its administrator.
type Field = TextField | "port" | `administrator.${"name" | "mail" | "password"}`

const ofAdministrator = (field: Field) =>
  field.startsWith("administrator.") ? (field.slice(14) as "name" | "mail" | "password") : undefined

const valueOf = (request: Request, field: Field) => {
  const part = ofAdministrator(field)
  return part ? request.administrator?.[part] : request[field as TextField | "port"]
}

function changed(request: Request, field: Field, value: string): Partial<Request> {
  const part = ofAdministrator(field)
  if (part) return { administrator: { ...request.administrator, [part]: value || undefined } }
  return {
    [field]: field === "port" ? Number(value) || undefined : field === "name" ? value : value || undefined,
  }
}

// Fields whose problems stand beside them.
export const shownFields = [
  "name",
  "title",
  "administrator.name",
  "administrator.mail",
  "administrator.password",
  "domain",
  "port",
  "folder",
  "group",
  "database_name",
  "database_user",
  "prefix",
  "archive",
  "adopt",
  "sql",
  "language",
  "time_zone",
  "domains",
  "network",
  "sub_sites",
]

// late returns a value once it has rested for a moment.
function useLate<T>(value: T, milliseconds: number): T {
  const [late, setLate] = useState(value)
  useEffect(() => {
    const timer = setTimeout(() => setLate(value), milliseconds)
    return () => clearTimeout(timer)
  }, [value, milliseconds])
  return late
}

// What a site can be made of. Each needs one further word, except a CMS.
export const origins = [
  ["stencil", "A stencil"],
  ["copy_of", "Another site"],
  ["archive", "An archive"],
  ["adopt", "A folder of mine"],
] as const

type Origin = (typeof origins)[number][0]

// useThere is what there is to choose from.
function useThere() {
  const defaults = useDefaults().data?.settings ?? []
  return {
    engines: useEngines().data?.engines ?? [],
    definitions: (useCMS().data?.cms ?? []).filter((k) => k.versions.length > 0),
    stencils: useStencils().data ?? [],
    sites: useSites().data ?? [],
    shelf: useShelf().data?.items ?? [],
    defaultOf: (name: string) => defaults.find((d) => d.name === name)?.value ?? "",
  }
}

// useForm is what is asked for, what would become of it, and what is wrong with that.
export function useForm(archive?: string) {
  const [request, setRequest] = useState<Request>({ name: "", archive })
  const [origin, setOrigin] = useState<Origin | undefined>(archive ? "archive" : undefined)
  const [more, setMore] = useState(false)
  const [refused, setRefused] = useState<Problem[]>([])
  const [fault, setFault] = useState<string>()
  const [kept, setKept] = useState(false)
  const [sending, setSending] = useState(false)
  const there = useThere()
  const settled = useLate(request, 140)
  const preview = useQuery({
    queryKey: ["preview", settled],
    queryFn: () => answer(api.POST("/api/v1/sites/preview", { body: { sites: [settled] } })),
    enabled: settled.name !== "",
    placeholderData: keepPreviousData,
    staleTime: 0,
  })
  const named = request.name !== ""
  const would = named ? preview.data?.sites[0] : undefined
  const incomplete = origin !== undefined && !request[origin]
  const problems = named ? [...(preview.data?.problems ?? []), ...refused] : []
  const of = (field: string) => problems.find((p) => p.field === field)
  const cms = there.definitions.find(
    (k) => k.name === (request.cms ?? would?.cms.name ?? there.definitions[0]?.name),
  )
  const edit = (next: Partial<Request>) => {
    setRefused([])
    setKept(false)
    setRequest((r) => ({ ...r, ...next }))
  }
  const change = (field: Field, value: string) => edit(changed(request, field, value))
  const madeOf = (next: Origin | undefined, name?: string) => {
    setOrigin(next)
    edit({
      stencil: undefined,
      copy_of: undefined,
      archive: undefined,
      adopt: undefined,
      sql: undefined,
      cms_version: undefined,
      finishing_touches: undefined,
      language: undefined,
      network: undefined,
      sub_sites: undefined,
      plugins: undefined,
      themes: undefined,
      cms: name,
    })
  }
  return {
    request,
    origin,
    more,
    setMore,
    kept,
    setKept,
    fault,
    setFault,
    setRefused,
    sending,
    setSending,
    ...there,
    preview,
    settled,
    named,
    would,
    incomplete,
    problems,
    of,
    cms,
    edit,
    change,
    madeOf,
  }
}

export type Form = ReturnType<typeof useForm> & ReturnType<typeof fieldsOf>

// fieldsOf are the form's inputs, by the field of the request that they change.
export function fieldsOf({ request, of, change, engines }: ReturnType<typeof useForm>) {
  const input = (
    field: Field,
    label: string,
    usual: string | number | undefined,
    extra: { type?: string } = {},
  ) => (
    <Input
      key={field}
      label={label}
      value={valueOf(request, field) ?? ""}
      usual={usual === undefined ? "" : String(usual)}
      problem={of(field)}
      onChange={(v) => change(field, v)}
      {...extra}
    />
  )
  const choice = (field: TextField, label: string, options: [string, string][], value?: string) => (
    <label className="block min-w-0">
      <span className="text-[13px] text-soft">{label}</span>
      <select
        name={field}
        value={request[field] ?? value ?? ""}
        onChange={(e) => change(field, e.target.value)}
        className="w-full border-b border-line-strong bg-transparent py-1 font-mono text-[13px]"
      >
        {options.map(([id, text]) => (
          <option key={id} value={id}>
            {text}
          </option>
        ))}
      </select>
    </label>
  )
  const engine = (field: TextField, label: string, kind: string, value?: string) =>
    choice(
      field,
      label,
      engines.filter((e) => e.kind === kind).map((e) => [e.id, e.version ? `${e.id} (${e.version})` : e.id]),
      value,
    )
  return { input, choice, engine }
}

// asDefaults are the choices of a request that can become defaults.
export function asDefaults(request: Request): Record<string, string> {
  const settings = Object.fromEntries(
    (["cms", "cms_version", "php", "web", "database", "group", "language", "time_zone"] as const)
      .filter((f) => request[f])
      .map((f) => [f, request[f] ?? ""]),
  )
  if (request.administrator?.name) settings.administrator = request.administrator.name
  if (request.administrator?.mail) settings.mail = request.administrator.mail
  if (request.finishing_touches) settings.finishing_touches = request.finishing_touches.join(",")
  return settings
}
