// Information: everything that a site runs on, as told by a request that it served; searched, compared, exported.
import { useQuery } from "@tanstack/react-query"
import { useState } from "react"
import { answer, api, of, useSites, type Info } from "./api"
import { Crumbs, Notice, Word } from "./ui"

const useInfo = (name: string | undefined) =>
  useQuery({
    queryKey: ["info", name],
    queryFn: () => answer(api.GET("/api/v1/sites/{name}/info", of({ name: name ?? "" }))),
    enabled: !!name,
    staleTime: 30_000,
    retry: false,
  })

interface Fact {
  section: string
  name: string
  value: string
  there: string // at the other site
}

// compared are the facts of one site, or what another has otherwise.
function compared(here: Info | undefined, there: Info | undefined): Fact[] {
  const entries = here?.entries ?? []
  if (!there) return entries.map((e) => ({ ...e, there: "" }))
  const key = (e: { section: string; name: string }) => e.section + "\n" + e.name
  const values = new Map(there.entries.map((e) => [key(e), e.value]))
  const own = new Set(entries.map(key))
  return [
    ...entries.map((e) => ({ ...e, there: values.get(key(e)) ?? "" })),
    ...there.entries.filter((e) => !own.has(key(e))).map((e) => ({ ...e, value: "", there: e.value })),
  ].filter((e) => e.value !== e.there && e.section !== "virtual host")
}

// save has the browser save facts as CSV (RFC 4180).
function save(facts: Fact[], name: string, other: string) {
  const quote = (text: string) => `"${text.replaceAll('"', '""')}"`
  const text = [
    ["section", "name", name, ...(other ? [other] : [])],
    ...facts.map((e) => [e.section, e.name, e.value, ...(other ? [e.there] : [])]),
  ]
    .map((row) => row.map(quote).join(","))
    .join("\r\n")
  const link = document.createElement("a")
  link.href = URL.createObjectURL(new Blob([text], { type: "text/csv" }))
  link.download = `${name}.csv`
  link.click()
  URL.revokeObjectURL(link.href)
}

export function InfoPage({ name }: { name: string }) {
  const sites = useSites().data ?? []
  const [search, setSearch] = useState("")
  const [other, setOther] = useState("")
  const info = useInfo(name)
  const second = useInfo(other || undefined)
  const shown = compared(info.data, other ? second.data : undefined).filter((e) =>
    [e.section, e.name, e.value, e.there].join(" ").toLowerCase().includes(search.toLowerCase()),
  )
  return (
    <>
      <Crumbs name={name} here="information" />
      <div className="mt-1 flex flex-wrap items-baseline gap-x-6 gap-y-2">
        <h1 className="text-[34px] font-bold leading-tight tracking-tight">What {name} runs on</h1>
        <span className="grow" />
        <label className="text-[13px] text-soft">
          Compare with{" "}
          <select
            name="compare"
            value={other}
            onChange={(e) => setOther(e.target.value)}
            className="ml-1 border-b border-line-strong bg-transparent font-mono text-ink"
          >
            <option value="">nothing</option>
            {sites
              .filter((s) => s.name !== name && s.state === "running")
              .map((s) => (
                <option key={s.name}>{s.name}</option>
              ))}
          </select>
        </label>
        <label className="text-[13px] text-soft">
          Search{" "}
          <input
            type="search"
            value={search}
            onChange={(e) => setSearch(e.target.value)}
            placeholder="upload, opcache, collation…"
            className="ml-1 w-60 rounded-sm border border-line-strong bg-sheet px-2.5 py-1 text-[14px] text-ink placeholder:text-faint"
          />
        </label>
        <Word onClick={() => save(shown, name, other)}>save as CSV</Word>
      </div>
      {info.isError && <Notice tone="fail">{info.error.message}</Notice>}
      {second.isError && <Notice tone="fail">{second.error.message}</Notice>}
      <p className="mb-2 mt-1 text-soft">
        {other ? `${shown.length} differences` : `${shown.length} facts`}, told by a request that the site
        itself served.
      </p>
      <Facts facts={shown} name={name} other={other} />
    </>
  )
}

function Facts({ facts, name, other }: { facts: Fact[]; name: string; other: string }) {
  return (
    <table className="w-full table-fixed border-collapse text-[13px]">
      <thead>
        <tr className="border-b border-line-strong text-left text-soft">
          <th className="w-24 font-normal sm:w-40">Section</th>
          <th className="w-32 font-normal sm:w-80">Name</th>
          <th className="font-normal">{other ? name : "Value"}</th>
          {other && <th className="font-normal">{other}</th>}
        </tr>
      </thead>
      <tbody>
        {facts.map((e, i) => (
          <tr key={e.section + e.name} className="border-b border-line align-top" data-name={e.name}>
            <td className="py-0.5 text-soft">
              {i === 0 || facts[i - 1].section !== e.section ? e.section : ""}
            </td>
            <td className="break-words py-0.5 pr-3 font-mono">{e.name}</td>
            <td className="break-words py-0.5 pr-3 font-mono">{e.value}</td>
            {other && <td className="break-words py-0.5 font-mono">{e.there}</td>}
          </tr>
        ))}
      </tbody>
    </table>
  )
}
