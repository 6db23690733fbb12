// Defaults: what new sites are made with where nothing else is asked for.
import { useState } from "react"
import { answer, api, queries, Refusal, told, useDefaults, type DefaultsData, type Problem } from "./api"
import { Button, Mono, Notice, Word } from "./ui"

const titles: Record<string, string> = {
  administrator: "Administrator",
  mail: "Mail address",
  password: "Password",
  domain_ending: "Domain ending",
  sites_folder: "Folder of the sites",
  cms: "CMS",
  cms_version: "CMS version",
  php: "PHP",
  web: "Web server",
  database: "Database server",
  group: "Group",
  finishing_touches: "Finishing touches",
  language: "Language",
  time_zone: "Time zone",
  https: "https",
  outgoing: "Other machines",
  appearance: "Appearance",
  operations_days: "Days of history",
  operations_kept: "Length of history",
}

export function Defaults() {
  const page = useDefaults()
  const [draft, setDraft] = useState<Record<string, string>>({})
  const [problems, setProblems] = useState<Problem[]>([])
  const save = async () => {
    try {
      await answer(api.PUT("/api/v1/defaults", { body: { settings: draft } }))
      setDraft({})
      setProblems([])
      await queries.invalidateQueries()
    } catch (error) {
      setProblems(
        error instanceof Refusal && error.problems.length
          ? error.problems
          : [{ field: "settings", message: told(error), remedy: "" }],
      )
    }
  }
  return (
    <>
      <h1 className="text-[26px] font-bold tracking-tight">Defaults</h1>
      <p className="mb-4 max-w-3xl text-soft">
        What new sites are made with, unless you say otherwise while making one. Sites that are there stay as
        they are. The defaults are kept in <Mono>{page.data?.file}</Mono>, which you may edit by hand.
      </p>
      {page.isError && <Notice tone="fail">{page.error.message}</Notice>}
      {page.data?.warnings.map((w) => (
        <Notice key={w} tone="fail">
          {w}
        </Notice>
      ))}
      {problems.map((p) => (
        <Notice key={p.field + p.message} tone="fail">
          {titles[p.field] ?? p.field}: {p.message}; {p.remedy}
        </Notice>
      ))}
      <form
        onSubmit={(e) => {
          e.preventDefault()
          void save()
        }}
      >
        <div className="grid lg:grid-cols-[11rem_21rem_6.5rem_minmax(0,1fr)_12rem] gap-x-5 border-b border-line-strong pb-1 max-lg:[&>span]:hidden text-[13px] text-soft">
          <span>Setting</span>
          <span>Value</span>
          <span>From</span>
          <span>What it is</span>
          <span>Sites that have another</span>
        </div>
        {page.data?.settings.map((d) => (
          <Row
            key={d.name}
            setting={d}
            draft={draft[d.name]}
            wrong={problems.some((p) => p.field === d.name)}
            change={(value) => setDraft({ ...draft, [d.name]: value })}
          />
        ))}
        <p className="mt-4 flex items-center gap-5">
          <Button type="submit" tone="strong" disabled={Object.keys(draft).length === 0}>
            Set
          </Button>
          {Object.keys(draft).length > 0 && (
            <Word
              onClick={() => {
                setDraft({})
                setProblems([])
              }}
            >
              leave it as it is
            </Word>
          )}
        </p>
      </form>
    </>
  )
}

// Row is one setting, where its value is from, and who has another.
function Row({
  setting: d,
  draft,
  wrong,
  change,
}: {
  setting: DefaultsData["settings"][number]
  draft?: string
  wrong: boolean
  change: (value: string) => void
}) {
  return (
    <label
      data-setting={d.name}
      className="grid lg:grid-cols-[11rem_21rem_6.5rem_minmax(0,1fr)_12rem] items-baseline gap-x-5 border-b border-line py-1.5"
    >
      <span className="font-medium">{titles[d.name] ?? d.name}</span>
      <input
        name={d.name}
        type={d.name === "password" ? "password" : "text"}
        autoComplete="off"
        value={draft ?? (d.name === "password" ? "" : d.value)}
        placeholder={d.name === "password" && d.value ? "set" : d.usual}
        onChange={(e) => change(e.target.value)}
        aria-invalid={wrong}
        className={`border-b border-line-strong bg-transparent font-mono text-[13px] placeholder:text-soft ${draft !== undefined ? "text-accent" : ""}`}
      />
      <span className="text-[13px] text-soft">{d.from}</span>
      <span className="text-[13px] text-soft">{d.about}</span>
      <span className="truncate text-[13px] text-soft" title={d.others.join(", ")}>
        {d.others.length === 0
          ? "none"
          : d.others.length < 3
            ? d.others.join(", ")
            : `${d.others.length} sites`}
      </span>
    </label>
  )
}
