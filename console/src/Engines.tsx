// Engines: what is here, what could be, who uses it, and what it takes.
import { useState } from "react"
import { call, queries, Refusal, useEngines, useLive, type Engine } from "./api"
import { Mono, Notice, Word } from "./ui"

const titles = { php: "PHP", web: "Web servers", database: "Database servers", release: "CMS releases" } as const
const megabytes = (bytes: number) => `${Math.round(bytes / 1048576)} MB`

export function Engines() {
  const answer = useEngines()
  const live = useLive()
  const [fault, setFault] = useState<string>()
  const act = async (path: string, id: string) => {
    setFault(undefined)
    try {
      await call("POST", path, { ids: [id] })
      await queries.invalidateQueries()
    } catch (error) {
      setFault(error instanceof Refusal ? error.problems.map((p) => `${p.message}; ${p.remedy}`).join("; ") || error.message : String(error))
    }
  }
  const disk = Object.entries(answer.data?.disk ?? {})
  return (
    <>
      <h1 className="text-[26px] font-bold tracking-tight">Engines</h1>
      <p className="mb-4 text-soft">Side by side, each site on its own. An engine that a site needs and that is not here is fetched with it.{disk.length > 0 && ` On disk, with what engines share counted once: ${disk.map(([g, b]) => `${g} ${megabytes(b)}`).join(", ")}.`}</p>
      {answer.isError && <Notice tone="fail">{answer.error.message}</Notice>}
      {fault && <Notice tone="fail">{fault} <Word onClick={() => setFault(undefined)}>Close</Word></Notice>}
      {(Object.keys(titles) as (keyof typeof titles)[]).map((kind) => (
        <section key={kind} className="mb-5">
          <h2 className="grid grid-cols-[13rem_8rem_11rem_6rem_1fr_7rem_6rem] gap-x-4 border-b border-line-strong pb-1 text-[13px] text-soft">
            <b className="text-[15px] font-semibold text-ink">{titles[kind]}</b><span>Version</span><span>From</span><span>Size</span><span>Sites</span><span>Memory</span><span />
          </h2>
          {answer.data?.engines.filter((e) => e.kind === kind).map((e) => <Row key={e.id} engine={e} doing={live.get(e.id)?.text} act={act} />)}
        </section>
      ))}
    </>
  )
}

function Row({ engine: e, doing, act }: { engine: Engine; doing?: string; act: (path: string, id: string) => void }) {
  return (
    <div data-engine={e.id} data-present={e.present} className={`grid grid-cols-[13rem_8rem_11rem_6rem_1fr_7rem_6rem] items-baseline gap-x-4 border-b border-line py-1.5 ${e.present ? "" : "text-soft"}`}>
      <Mono>{e.id}</Mono>
      <span>{e.present ? e.version : doing ? <span className="text-accent">coming</span> : "not here"}</span>
      <span className="truncate text-[13px]" title={e.note || e.from}>{e.from}{e.note && "*"}</span>
      <span className="text-[13px]">{e.present && megabytes(e.size_bytes)}</span>
      <span className="truncate text-[13px]" title={e.sites.join(", ")}>{e.sites.length > 3 ? `${e.sites.slice(0, 3).join(", ")} and ${e.sites.length - 3} more` : e.sites.join(", ")}</span>
      <span className="text-[13px]">{e.memory_bytes > 0 && `${megabytes(e.memory_bytes)} in ${e.processes.length}`}</span>
      <span className="text-right text-[13px]">
        {doing ? <span className="text-accent">{doing}</span> : e.present ? e.sites.length === 0 && <Word onClick={() => act("/engines/drop", e.id)}>drop</Word> : <Word onClick={() => act("/engines/fetch", e.id)}>fetch</Word>}
      </span>
    </div>
  )
}
