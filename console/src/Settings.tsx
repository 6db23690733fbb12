// Settings of a site's engines: what is set, what could be, who changed it when, and going back.
import { useQuery } from "@tanstack/react-query"
import { useState } from "react"
import {
  changeOf,
  answer,
  api,
  of,
  queries,
  Refusal,
  useOperations,
  useSites,
  type Problem,
  type Site,
  type Settings,
  type SettingsData,
} from "./api"
import { Extensions } from "./Extensions"
import { Limits } from "./Limits"
import { Button, Crumbs, Mono, Notice, Word } from "./ui"

const usual = [
  "memory_limit",
  "upload_max_filesize",
  "post_max_size",
  "max_execution_time",
  "max_input_vars",
  "display_errors",
  "date.timezone",
]

// useForm is what a site's settings are, and what they would be.
function useForm(site: Site, data: SettingsData) {
  const [draft, setDraft] = useState<Settings>()
  const [problems, setProblems] = useState<Problem[]>([])
  const now = data.settings
  const s = draft ?? now
  const changed = draft !== undefined && JSON.stringify(draft) !== JSON.stringify(now)
  const server = site.stack.web.engine.split("-")[0]
  const edit = (change: Partial<Settings>) => {
    setProblems([])
    setDraft({ ...s, ...change })
  }
  const php = (directive: string, value: string) => {
    const next = { ...s.php }
    if (value === "") delete next[directive]
    else next[directive] = value
    edit({ php: next })
  }
  const apply = async (settings: Settings) => {
    try {
      await answer(
        api.PUT("/api/v1/sites/{name}/settings", { ...of({ name: site.name }), body: { settings } }),
      )
      setDraft(undefined)
      await queries.invalidateQueries()
    } catch (error) {
      setProblems(
        error instanceof Refusal && error.problems.length
          ? error.problems
          : [
              {
                field: "settings",
                message: String(error instanceof Error ? error.message : error),
                remedy: "",
              },
            ],
      )
    }
  }
  return { site, data, now, s, changed, server, problems, edit, php, apply, setDraft, setProblems }
}

type Form = ReturnType<typeof useForm>

export function SettingsPage({ name }: { name: string }) {
  const site = useSites().data?.find((s) => s.name === name)
  const page = useQuery({
    queryKey: ["settings", name],
    queryFn: () => answer(api.GET("/api/v1/sites/{name}/settings", of({ name }))),
  })
  if (!page.data || !site) return <div className="h-40 animate-pulse bg-wash" aria-busy />
  return <Filled site={site} data={page.data} />
}

function Filled({ site, data }: { site: Site; data: SettingsData }) {
  const form = useForm(site, data)
  const { s, edit, problems } = form
  const name = site.name
  const last = useOperations().data?.find((o) => o.kind === "adjust" && changeOf(o)?.site === name)
  const running = last?.state === "running"
  const part = last?.sites.find((p) => p.site === name)
  return (
    <>
      <Crumbs name={name} here="settings" />
      <h1 className="mt-1 text-[34px] font-bold leading-tight tracking-tight">Settings of {site.title}</h1>
      <p className="mt-1 max-w-3xl text-soft">
        The engines read a change before it is loaded. Then the site is verified, and the change is taken back
        when a check fails that passed before.
      </p>
      {running && (
        <Notice>
          <span className="text-accent">Being changed…</span>
        </Notice>
      )}
      {!running && part?.state === "failed" && (
        <Notice tone="fail">
          <span className="break-words">{part.problem}</span>
        </Notice>
      )}
      {problems.length > 0 && (
        <Notice tone="fail">
          {problems.map((p) => (
            <p key={p.field + p.message}>
              {p.field}: {p.message}; {p.remedy}
            </p>
          ))}
        </Notice>
      )}
      <div className="mt-5 grid md:grid-cols-[minmax(0,1.1fr)_minmax(0,1fr)] gap-x-12">
        <section>
          <Directives form={form} />
          <HostLines form={form} />
        </section>
        <section>
          <Extensions php={site.stack.php.engine} data={data} settings={s} edit={edit} />
          <Behaviour form={form} />
          <Limits page={data} settings={s} edit={edit} />
          <Folders form={form} />
          <Helpers form={form} name={site.name} />
          <Actions form={form} running={running} />
          <History form={form} running={running} />
        </section>
      </div>
    </>
  )
}

// Directives are those of php.ini.
function Directives({ form }: { form: Form }) {
  const { site, data, now, s, php, problems } = form
  const [adding, setAdding] = useState("")
  const directives = [
    ...usual,
    ...Object.keys(s.php ?? {})
      .filter((d) => !usual.includes(d))
      .sort(),
  ]
  const of = (directive: string) => problems.find((p) => p.field === "php." + directive)
  return (
    <>
      <h2 className="mb-1 text-[15px] font-semibold">
        php.ini, <Mono>{site.stack.php.engine}</Mono>
      </h2>
      {directives.map((directive) => (
        <label
          key={directive}
          className="grid md:grid-cols-[14rem_1fr] items-baseline gap-x-3 border-t border-line py-1"
        >
          <Mono>{directive}</Mono>
          <input
            name={directive}
            value={s.php?.[directive] ?? ""}
            placeholder={data.usual[directive] ?? "as PHP has it"}
            onChange={(e) => php(directive, e.target.value)}
            aria-invalid={!!of(directive)}
            className={`w-full bg-transparent font-mono text-[13px] placeholder:text-faint ${s.php?.[directive] !== now.php?.[directive] ? "text-accent" : ""} ${of(directive) ? "text-fail" : ""}`}
          />
        </label>
      ))}
      <form
        className="grid md:grid-cols-[14rem_1fr] items-baseline gap-x-3 border-t border-line py-1"
        onSubmit={(e) => {
          e.preventDefault()
          if (adding) php(adding, s.php?.[adding] ?? data.usual[adding] ?? "0")
          setAdding("")
        }}
      >
        <input
          list="directives"
          value={adding}
          onChange={(e) => setAdding(e.target.value)}
          placeholder="another directive…"
          aria-label="Another directive"
          className="bg-transparent font-mono text-[13px] placeholder:text-faint"
        />
        <Word type="submit" disabled={!adding} className="justify-self-start">
          add
        </Word>
        <datalist id="directives">
          {data.directives.map((d) => (
            <option key={d} value={d} />
          ))}
        </datalist>
      </form>
    </>
  )
}

// HostLines are further lines for the virtual host.
function HostLines({ form }: { form: Form }) {
  const { s, server, edit } = form
  return (
    <>
      <h2 className="mb-1 mt-6 text-[15px] font-semibold">Lines for its virtual host, {server}</h2>
      <textarea
        name="host_lines"
        value={s.host_lines?.[server] ?? ""}
        onChange={(e) => edit({ host_lines: { ...s.host_lines, [server]: e.target.value } })}
        rows={4}
        spellCheck={false}
        placeholder={server === "nginx" ? "add_header X-Keeper Ines;" : "Header set X-Keeper Ines"}
        className="w-full rounded-sm border border-line-strong bg-sheet p-2 font-mono text-[13px] placeholder:text-faint"
      />
    </>
  )
}

// Toggle is one thing that is on or off.
const Toggle = ({ name, form, children }: { name: "debug"; form: Form; children: string }) => (
  <label className="flex items-center gap-2">
    <input
      type="checkbox"
      name={name}
      className="accent-(--accent)"
      checked={form.s[name] ?? false}
      onChange={(e) => form.edit({ [name]: e.target.checked })}
    />{" "}
    {children}
  </label>
)

// OtherMachines is what it may ask of them.
function OtherMachines({ form }: { form: Form }) {
  const { s, edit } = form
  const list = (field: "outgoing_allow" | "outgoing_refuse", words: string, example: string) => (
    <label className="mt-1 flex flex-wrap items-baseline gap-x-2">
      {words}{" "}
      <input
        value={(s[field] ?? []).join(" ")}
        placeholder={example}
        onChange={(e) => edit({ [field]: e.target.value.split(/[ ,]/) })}
        onBlur={() => s[field]?.includes("") && edit({ [field]: s[field]?.filter(Boolean) })}
        className="min-w-0 grow border-b border-line-strong bg-transparent font-mono text-[13px] placeholder:text-faint"
      />
    </label>
  )
  return (
    <>
      <label className="mt-1 flex items-baseline gap-2">
        It may ask other machines{" "}
        <select
          name="outgoing"
          value={s.outgoing || "web"}
          onChange={(e) => edit({ outgoing: e.target.value as Settings["outgoing"] })}
          className="border-b border-line-strong bg-transparent"
        >
          <option value="web">HTTP and HTTPS</option>
          <option value="open">anything</option>
          <option value="closed">nothing: it works offline</option>
        </select>
      </label>
      {list("outgoing_allow", "in any case", "api.example.org *.example.org 203.0.113.0/24 :8080")}
      {list("outgoing_refuse", "in no case", "none")}
    </>
  )
}

// Helpers are PHP of this machine that is loaded for the site.
function Helpers({ form, name }: { form: Form; name: string }) {
  const { s, edit } = form
  const all = useQuery({
    queryKey: ["helpers", name],
    queryFn: () => answer(api.GET("/api/v1/sites/{name}/helpers", of({ name }))),
  }).data
  const on = s.helpers ?? []
  return (
    <fieldset className="mt-6">
      <legend className="mb-1 text-[15px] font-semibold">Local helpers</legend>
      {all?.length === 0 && (
        <p className="text-soft">
          PHP of this machine, outside the site’s folder: write it as <Mono>helpers/NAME.php</Mono> in the
          home folder.
        </p>
      )}
      {all?.map((h) => (
        <label key={h.name} className="mt-1 flex flex-wrap items-baseline gap-x-2">
          <input
            type="checkbox"
            className="accent-(--accent)"
            checked={on.includes(h.name)}
            onChange={(e) =>
              edit({ helpers: e.target.checked ? [...on, h.name] : on.filter((other) => other !== h.name) })
            }
          />
          <Mono>{h.name}</Mono>{" "}
          <span className="text-soft">{h.missing ? "is nowhere any more" : h.about}</span>
        </label>
      ))}
    </fieldset>
  )
}

// Behaviour is what is on or off, or a number.
function Behaviour({ form }: { form: Form }) {
  const { data, s, edit } = form
  return (
    <>
      <h2 className="mb-1 mt-6 text-[15px] font-semibold">Debugging, network and rest</h2>
      <Toggle name="debug" form={form}>
        PHP shows and logs every error
      </Toggle>
      <OtherMachines form={form} />
      <label className="mt-1 flex items-center gap-2">
        Xdebug connects to port{" "}
        <input
          value={s.xdebug || ""}
          placeholder="off"
          disabled={!data.has_xdebug}
          onChange={(e) => edit({ xdebug: Number(e.target.value) || 0 })}
          className="w-20 border-b border-line-strong bg-transparent font-mono text-[13px]"
        />
      </label>
      <label className="mt-1 flex items-center gap-2">
        PHP goes to rest after{" "}
        <input
          value={s.rest_after || ""}
          placeholder="600"
          onChange={(e) => edit({ rest_after: Number(e.target.value) || 0 })}
          className="w-20 border-b border-line-strong bg-transparent font-mono text-[13px]"
        />{" "}
        seconds without a request
      </label>
    </>
  )
}

// Folders are those that it may use besides its own.
function Folders({ form }: { form: Form }) {
  const { s, edit } = form
  return (
    <>
      <h2 className="mb-1 mt-6 text-[15px] font-semibold">Further folders that it may use</h2>
      <textarea
        value={(s.allow ?? []).join("\n")}
        onChange={(e) => edit({ allow: e.target.value.split("\n").filter(Boolean) })}
        rows={2}
        spellCheck={false}
        placeholder="one path a line, or /path=place/in/the/site"
        aria-label="Further folders"
        className="w-full rounded-sm border border-line-strong bg-sheet p-2 font-mono text-[13px] placeholder:text-faint"
      />
    </>
  )
}

// Actions apply what was changed, or leave it.
function Actions({ form, running }: { form: Form; running: boolean }) {
  const { changed, apply, s, setDraft, setProblems } = form
  return (
    <>
      <p className="mt-5 flex items-center gap-5">
        <Button tone="strong" disabled={!changed || running} onClick={() => apply(s)}>
          Apply
        </Button>
        {changed && (
          <Word
            onClick={() => {
              setDraft(undefined)
              setProblems([])
            }}
          >
            leave it as it is
          </Word>
        )}
      </p>
    </>
  )
}

// History is what the settings were, and leads back.
function History({ form, running }: { form: Form; running: boolean }) {
  const { data, apply } = form
  return (
    <>
      <h2 className="mb-1 mt-8 text-[15px] font-semibold">History</h2>
      <ol className="max-h-64 overflow-auto">
        {data.history.map((entry, i) => (
          <li key={entry.id} className="border-t border-line py-1.5">
            <Mono className="text-soft">{new Date(entry.at).toLocaleString("sv")}</Mono> by {entry.who}
            {i > 0 && (
              <Word className="ml-3 text-[13px]" disabled={running} onClick={() => apply(entry.settings)}>
                back to this
              </Word>
            )}
            <span className="block break-words text-[13px] text-soft">{entry.changed.join("; ")}</span>
          </li>
        ))}
        <li className="border-t border-line py-1.5 text-soft">
          as the site was made{" "}
          {data.history.length > 0 && (
            <Word className="ml-3 text-[13px]" disabled={running} onClick={() => apply({})}>
              back to this
            </Word>
          )}
        </li>
      </ol>
    </>
  )
}
