// Walk: all pages of a site, the worst first, each with what is wrong with it.
import { useState } from "react"
import { request, told, useSites, type WalkedPage, type WalkLine } from "./api"
import { linesOf } from "./stream"
import { Button, Crumbs, Mono, Notice, Word } from "./ui"

// kinds are what may be wrong, in words.
const kinds: Record<string, string> = {
  fails: "fails",
  php: "PHP says",
  "broken-link": "broken link",
  "broken-file": "broken file",
  "redirect-loop": "redirects in a circle",
  "plain-http": "plain http",
  "form-elsewhere": "sends elsewhere",
  "redirect-chain": "redirects on and on",
  slow: "slow",
  "no-title": "no title",
  "same-title": "same title",
  "not-indexed": "not for search engines",
}
const grave = ["fails", "php", "broken-link", "broken-file", "redirect-loop"]

// useWalk walks, and holds what came.
function useWalk(name: string) {
  const [pages, setPages] = useState<WalkedPage[]>()
  const [progress, setProgress] = useState<WalkLine["progress"]>()
  const [end, setEnd] = useState<WalkLine["end"]>()
  const [fault, setFault] = useState<string>()
  const [running, setRunning] = useState<AbortController>()
  const go = async (as: string) => {
    const stop = new AbortController()
    setRunning(stop)
    setFault(undefined)
    setEnd(undefined)
    setPages(undefined)
    const all: WalkedPage[] = []
    try {
      const response = await request(`/sites/${name}/walk`, {
        method: "POST",
        headers: { "Content-Type": "application/json" },
        body: JSON.stringify(as ? { as } : {}),
        signal: stop.signal,
      })
      if (!response.ok) throw new Error(((await response.json()) as { detail?: string }).detail)
      for await (const line of linesOf<WalkLine>(response)) {
        if (line.error) throw new Error(line.error)
        if (line.progress) setProgress(line.progress)
        if (line.page) all.push(line.page)
        if (line.end) setEnd(line.end)
      }
      setPages(all)
    } catch (error) {
      setFault(stop.signal.aborted ? "It was ended." : told(error))
    }
    setProgress(undefined)
    setRunning(undefined)
  }
  return { pages, progress, end, fault, running, go }
}

export function WalkPage({ name }: { name: string }) {
  const site = useSites().data?.find((s) => s.name === name)
  const walk = useWalk(name)
  const [as, setAs] = useState("")
  return (
    <>
      <Crumbs name={name} here="walk" />
      <h1 className="mt-1 text-[34px] font-bold leading-tight tracking-tight">A walk through {name}</h1>
      <p className="mt-1 max-w-3xl text-soft">
        Through all pages, from the front page, the CMS’s own lists and the sitemap on, as a visitor does.
        Other machines are asked nothing.
      </p>
      <form
        className="mt-3 flex flex-wrap items-baseline gap-x-4 gap-y-2"
        onSubmit={(e) => {
          e.preventDefault()
          void walk.go(as)
        }}
      >
        <label>
          as{" "}
          <input
            value={as}
            placeholder="a visitor"
            onChange={(e) => setAs(e.target.value)}
            className="w-40 border-b border-line-strong bg-transparent placeholder:text-faint"
          />
        </label>
        <Button type="submit" disabled={!!walk.running || site?.state !== "running"}>
          Walk
        </Button>
        {walk.running && <Word onClick={() => walk.running?.abort()}>end it</Word>}
        {walk.progress && (
          <progress value={walk.progress.asked} max={walk.progress.known} aria-label="Asked" />
        )}
      </form>
      {walk.fault && <Notice tone="fail">{walk.fault}</Notice>}
      {walk.end && (
        <p role="status" className="mt-3">
          {walk.end.pages} pages and {walk.end.files} files in {(walk.end.milliseconds / 1000).toFixed(1)} s:{" "}
          {walk.end.findings} findings.
          {walk.end.cut && " There is more than was walked."}
        </p>
      )}
      {walk.pages && <Pages site={site?.url ?? ""} pages={walk.pages} />}
    </>
  )
}

function Pages({ site, pages }: { site: string; pages: WalkedPage[] }) {
  const well = pages.filter((p) => p.findings.length === 0)
  const [all, setAll] = useState(false)
  return (
    <>
      <ol className="mt-3">
        {pages
          .filter((p) => all || p.findings.length > 0)
          .map((p) => (
            <Page key={p.path} site={site} page={p} />
          ))}
      </ol>
      {well.length > 0 && !all && (
        <p className="mt-3">
          <Word onClick={() => setAll(true)}>
            {well.length === 1 ? "1 page is in order" : `${well.length} pages are in order`}…
          </Word>
        </p>
      )}
    </>
  )
}

function Page({ site, page: p }: { site: string; page: WalkedPage }) {
  return (
    <li data-page={p.path} className="border-t border-line py-2">
      <p className="flex flex-wrap items-baseline gap-x-4">
        <a
          href={site.replace(/\/$/, "") + p.path}
          target="_blank"
          rel="noreferrer"
          className="break-all font-mono text-[13px] underline underline-offset-4"
        >
          {p.path}
        </a>
        <span>{p.title}</span>
        <Mono className="text-soft">
          {p.status || "no answer"} · {p.milliseconds} ms
        </Mono>
      </p>
      <ul>
        {p.findings.map((f, i) => (
          <li key={i} className="grid gap-x-4 text-[13px] sm:grid-cols-[11rem_minmax(0,1fr)]">
            <span className={grave.includes(f.kind) ? "text-fail" : "text-soft"}>
              {kinds[f.kind] ?? f.kind}
            </span>
            <span className="break-all">
              {f.where && <Mono>{f.where} </Mono>}
              {f.text}
            </span>
          </li>
        ))}
      </ul>
    </li>
  )
}
