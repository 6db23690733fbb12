// Walk: a walk through all pages of a site, those that are kept, and what the chosen one found.
import { useQuery } from "@tanstack/react-query"
import { useState } from "react"
import { answer, api, of, queries, request, told, useSites, type WalkLine } from "./api"
import { linesOf } from "./stream"
import { Button, Crumbs, Notice, Word } from "./ui"
import { Compared, WalkMap } from "./WalkMap"

const doing: Record<string, string> = {
  asking: "Asking pages and files",
  "slow pages": "Asking slow pages again",
  looking: "Looking at pages in Chromium",
  "other site": "Walking through the other site",
  "other address": "Asking the other address, a page a second",
}

// useWalk walks, and says how far it is; what it found is kept by the service.
function useWalk(name: string, ended: (id: string) => void) {
  const [progress, setProgress] = useState<WalkLine["progress"]>()
  const [fault, setFault] = useState<string>()
  const [running, setRunning] = useState<AbortController>()
  const go = async (asked: { as?: string; against?: string; browser?: number }) => {
    const stop = new AbortController()
    setRunning(stop)
    setFault(undefined)
    try {
      const response = await request(`/sites/${name}/walk`, {
        method: "POST",
        headers: { "Content-Type": "application/json" },
        body: JSON.stringify(asked),
        signal: stop.signal,
      })
      if (!response.ok) throw new Error(((await response.json()) as { detail?: string }).detail)
      for await (const line of linesOf<WalkLine>(response)) {
        if (line.error) throw new Error(line.error)
        if (line.progress) setProgress(line.progress)
        if (line.end) ended(line.end.id)
      }
      await queries.invalidateQueries({ queryKey: ["walks", name] })
    } catch (error) {
      setFault(stop.signal.aborted ? "It was ended." : told(error))
    }
    setProgress(undefined)
    setRunning(undefined)
  }
  return { progress, fault, running, go }
}

export function WalkPage({ name }: { name: string }) {
  const [chosen, choose] = useState("last")
  const walk = useWalk(name, choose)
  const kept = useQuery({
    queryKey: ["walks", name],
    queryFn: async () => (await answer(api.GET("/api/v1/sites/{name}/walks", of({ name })))) ?? [],
  })
  return (
    <>
      <Crumbs name={name} here="walk" />
      <h1 className="mt-1 text-[34px] font-bold leading-tight tracking-tight">A walk through {name}</h1>
      <p className="mt-1 max-w-3xl text-soft">
        Through all pages, from the front page, the CMS’s own lists and the sitemap on, as a visitor does.
        Other machines are asked nothing, but for an address that you compare with.
      </p>
      <Ask name={name} walk={walk} ids={kept.data?.map((w) => w.id) ?? []} />
      {walk.fault && <Notice tone="fail">{walk.fault}</Notice>}
      {kept.data?.length === 0 && !walk.running && <p className="py-4 text-soft">Nobody has walked yet.</p>}
      {!!kept.data?.length && !walk.running && (
        <Kept name={name} all={kept.data} chosen={chosen} choose={choose} />
      )}
    </>
  )
}

// Ask is the form for another walk.
function Ask({ name, walk, ids }: { name: string; walk: ReturnType<typeof useWalk>; ids: string[] }) {
  const sites = useSites().data ?? []
  const site = sites.find((s) => s.name === name)
  const [as, setAs] = useState("")
  const [against, setAgainst] = useState("")
  const [look, setLook] = useState(true)
  const field = "w-56 border-b border-line-strong bg-transparent placeholder:text-faint"
  return (
    <form
      className="mt-3 flex flex-wrap items-baseline gap-x-6 gap-y-2 border-y border-line-strong bg-sheet px-4 py-3"
      onSubmit={(e) => {
        e.preventDefault()
        void walk.go({ as: as || undefined, against: against || undefined, browser: look ? undefined : 0 })
      }}
    >
      <label>
        as{" "}
        <input
          name="as"
          value={as}
          placeholder="a visitor"
          onChange={(e) => setAs(e.target.value)}
          className={field}
        />
      </label>
      <label>
        compared with{" "}
        <input
          name="against"
          value={against}
          list="walk-against"
          placeholder="nothing"
          onChange={(e) => setAgainst(e.target.value)}
          className={field}
        />
      </label>
      <datalist id="walk-against">
        {ids.length > 0 && <option value="last">the last walk</option>}
        {ids.map((id) => (
          <option key={id} value={id} />
        ))}
        {sites
          .filter((s) => s.name !== name && s.state === "running")
          .map((s) => (
            <option key={s.name} value={s.name} />
          ))}
        <option value="https://">an address elsewhere</option>
      </datalist>
      <label className="flex items-center gap-2">
        <input
          type="checkbox"
          className="accent-(--accent)"
          checked={look}
          onChange={(e) => setLook(e.target.checked)}
        />
        look in Chromium, too
      </label>
      <Button type="submit" tone="strong" disabled={!!walk.running || site?.state !== "running"}>
        Walk
      </Button>
      {walk.running && <Word onClick={() => walk.running?.abort()}>end it</Word>}
      {walk.progress && (
        <label className="flex items-center gap-2 text-[13px] text-soft" aria-live="polite">
          {doing[walk.progress.doing] ?? walk.progress.doing}
          <progress value={walk.progress.asked} max={Math.max(1, walk.progress.known)} />
        </label>
      )}
    </form>
  )
}

// Kept are the walks that are kept, and the chosen one of them.
function Kept({
  name,
  all,
  chosen,
  choose,
}: {
  name: string
  all: { id: string; at: string; findings: number; as?: string }[]
  chosen: string
  choose: (id: string) => void
}) {
  const id = all.find((w) => w.id === chosen)?.id ?? all[0].id
  const walked = useQuery({
    queryKey: ["walks", name, id],
    queryFn: () => answer(api.GET("/api/v1/sites/{name}/walks/{id}", of({ name, id }))),
  })
  const w = walked.data
  const drop = async () => {
    await answer(api.DELETE("/api/v1/sites/{name}/walks/{id}", of({ name, id })))
    await queries.invalidateQueries({ queryKey: ["walks", name] })
  }
  return (
    <>
      <nav aria-label="Walks that are kept" className="mt-3 flex flex-wrap gap-x-5 gap-y-1 text-[13px]">
        {all.map((each) => (
          <Word
            key={each.id}
            aria-current={each.id === id}
            className={each.id === id ? "font-semibold text-accent" : "text-soft"}
            onClick={() => choose(each.id)}
          >
            {new Date(each.at).toLocaleString("sv").slice(0, 16)}
            {each.as && ` as ${each.as}`}, {each.findings} findings
          </Word>
        ))}
      </nav>
      {walked.isError && <Notice tone="fail">{walked.error.message}</Notice>}
      {w && (
        <>
          <p role="status" className="mt-3">
            {w.pages.length} pages{w.looked > 0 && `, ${w.looked} of them in Chromium,`} and {w.files} files
            in {(w.milliseconds / 1000).toFixed(1)} s:{" "}
            <b>{w.pages.reduce((n, p) => n + p.findings.length, 0)} findings</b>.
            {w.cut && " There is more than was walked."}{" "}
            <Word className="ml-3 text-[13px] text-soft" onClick={() => void drop()}>
              forget this walk
            </Word>
          </p>
          {w.compared && <Compared compared={w.compared} />}
          <WalkMap key={id} name={name} walked={w} />
        </>
      )}
    </>
  )
}
