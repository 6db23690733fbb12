// What the form for a new site is filled with, what would become of that, and its inputs.
import { useQuery, keepPreviousData } from "@tanstack/react-query"
import { useEffect, useState } from "react"
import {
  answer,
  api,
  useDefaults,
  useEngines,
  useKits,
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
// Fields whose problems stand beside them.
export const shownFields = [
  "name",
  "title",
  "admin",
  "admin_email",
  "admin_password",
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

// What a site can be made of. Each needs one further word, except a kit.
export const origins = [
  ["stencil", "A stencil"],
  ["copy_of", "Another site"],
  ["archive", "A release archive"],
  ["adopt", "A folder of mine"],
] as const

type Origin = (typeof origins)[number][0]

// useThere is what there is to choose from.
function useThere() {
  const defaults = useDefaults().data?.settings ?? []
  return {
    engines: useEngines().data?.engines ?? [],
    kits: (useKits().data?.kits ?? []).filter((k) => k.versions.length > 0),
    stencils: useStencils().data ?? [],
    sites: useSites().data ?? [],
    shelf: useShelf().data?.items ?? [],
    defaultOf: (name: string) => defaults.find((d) => d.name === name)?.value ?? "",
  }
}

// useForm is what is asked for, what would become of it, and what is wrong with that.
export function useForm() {
  const [request, setRequest] = useState<Request>({ name: "" })
  const [origin, setOrigin] = useState<Origin>()
  const [more, setMore] = useState(false)
  const [refused, setRefused] = useState<Problem[]>([])
  const [fault, setFault] = useState<string>()
  const [kept, setKept] = useState(false)
  const [sending, setSending] = useState(false)
  const there = useThere()
  const settled = useLate(request, 140)
  const derived = useQuery({
    queryKey: ["derive", settled],
    queryFn: () => answer(api.POST("/api/v1/sites/derive", { body: { sites: [settled] } })),
    enabled: settled.name !== "",
    placeholderData: keepPreviousData,
    staleTime: 0,
  })
  const named = request.name !== ""
  const would = named ? derived.data?.sites[0] : undefined
  const incomplete = origin !== undefined && !request[origin]
  const problems = named ? [...(derived.data?.problems ?? []), ...refused] : []
  const of = (field: string) => problems.find((p) => p.field === field)
  const kit = there.kits.find((k) => k.name === (request.kit ?? would?.kit.name ?? there.kits[0]?.name))
  const edit = (next: Partial<Request>) => {
    setRefused([])
    setKept(false)
    setRequest((r) => ({ ...r, ...next }))
  }
  const change = (field: TextField | "port", value: string) =>
    edit({
      [field]: field === "port" ? Number(value) || undefined : field === "name" ? value : value || undefined,
    })
  const madeOf = (next: Origin | undefined, name?: string) => {
    setOrigin(next)
    edit({
      stencil: undefined,
      copy_of: undefined,
      archive: undefined,
      adopt: undefined,
      sql: undefined,
      kit_version: undefined,
      finishing_touches: undefined,
      language: undefined,
      network: undefined,
      sub_sites: undefined,
      plugins: undefined,
      themes: undefined,
      kit: name,
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
    derived,
    settled,
    named,
    would,
    incomplete,
    problems,
    of,
    kit,
    edit,
    change,
    madeOf,
  }
}

export type Form = ReturnType<typeof useForm> & ReturnType<typeof fieldsOf>

// fieldsOf are the form's inputs, by the field of the request that they change.
export function fieldsOf({ request, of, change, engines }: ReturnType<typeof useForm>) {
  const input = (
    field: TextField | "port",
    label: string,
    derivedValue: string | number | undefined,
    extra: { type?: string } = {},
  ) => (
    <Input
      key={field}
      label={label}
      value={request[field] ?? ""}
      derived={derivedValue === undefined ? "" : String(derivedValue)}
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

// asDefaults are the choices of a request that can be set once.
export function asDefaults(request: Request): Record<string, string> {
  const settings = Object.fromEntries(
    (
      [
        "admin",
        "admin_email",
        "kit",
        "kit_version",
        "php",
        "web",
        "database",
        "group",
        "language",
        "time_zone",
      ] as const
    )
      .filter((f) => request[f])
      .map((f) => [f, request[f] ?? ""]),
  )
  if (request.finishing_touches) settings.finishing_touches = request.finishing_touches.join(",")
  return settings
}
