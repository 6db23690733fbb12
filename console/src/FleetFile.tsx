// Fleet file: the fleet as a text that can be kept, compared and applied.
import { useQuery } from "@tanstack/react-query"
import { useState } from "react"
import { Link } from "wouter"
import { call, queries, told, type FleetStep, type Operation } from "./api"
import { Button, Mono, Notice, Word } from "./ui"

const verbs: Record<FleetStep["what"], string> = { make: "make", restack: "put on", readdress: "re-address", domains: "further domains", label: "label", start: "start", stop: "stop" }

export function FleetFile() {
  const written = useQuery({ queryKey: ["fleet-file"], queryFn: () => call<{ text: string }>("GET", "/fleet") })
  const [draft, setDraft] = useState<string>()
  const [steps, setSteps] = useState<FleetStep[]>()
  const [done, setDone] = useState(0)
  const [fault, setFault] = useState<string>()
  const [busy, setBusy] = useState(false)
  const text = draft ?? written.data?.text ?? ""
  const preview = async () => {
    setFault(undefined)
    setSteps(undefined)
    setDone(0)
    try {
      setSteps(await call<FleetStep[]>("POST", "/fleet/preview", { text }))
    } catch (error) {
      setFault(told(error))
    }
  }
  // Each step is an operation of its own; the next one waits for it.
  const settled = async (operation: Operation) => {
    for (;;) {
      const now = await call<Operation>("GET", `/operations/${operation.id}`)
      if (now.state !== "running") {
        const failed = now.sites.find((part) => part.state !== "done")
        if (failed) throw new Error(`${failed.site}: ${failed.problem}`)
        return
      }
      await new Promise((next) => setTimeout(next, 400))
    }
  }
  const apply = async () => {
    setBusy(true)
    setFault(undefined)
    try {
      const makes = steps!.filter((s) => s.make)
      if (makes.length) await settled(await call<Operation>("POST", "/sites", { sites: makes.map((s) => s.make) }))
      setDone(makes.length)
      for (const s of steps!.filter((each) => !each.make)) {
        if (s.stack) await settled(await call<Operation>("POST", `/sites/${s.site}/restack`, s.stack))
        else if (s.rename) await settled(await call<Operation>("POST", `/sites/${s.site}/rename`, s.rename))
        else if (s.domains) await call("PUT", `/sites/${s.site}/domains`, s.domains)
        else if (s.label) await call("POST", "/sites/label", s.label)
        else await settled(await call<Operation>("POST", `/sites/${s.what}`, { names: [s.site] }))
        setDone((n) => n + 1)
      }
      setDraft(undefined)
    } catch (error) {
      setFault(told(error))
    }
    setBusy(false)
    await queries.invalidateQueries()
  }
  const order = steps && [...steps.filter((s) => s.make), ...steps.filter((s) => !s.make)]
  return (
    <>
      <p className="text-[13px] text-soft"><Link href="/" className="underline decoration-line-strong underline-offset-4">Fleet</Link> / as a file</p>
      <h1 className="mt-1 text-[26px] font-bold tracking-tight">Fleet file</h1>
      <p className="mb-4 max-w-3xl text-soft">The sites as a text to keep, to share and to change. What it does not name is left alone; applying it twice changes nothing.</p>
      {written.isError && <Notice tone="fail">{written.error.message}</Notice>}
      {fault && <Notice tone="fail">{fault}</Notice>}
      <div className="grid grid-cols-[minmax(0,1.25fr)_minmax(0,1fr)] gap-x-10">
        <textarea aria-label="Fleet file" name="fleet" value={text} onChange={(e) => { setDraft(e.target.value); setSteps(undefined) }} spellCheck={false} rows={26} className="w-full resize-y border border-line-strong bg-sheet p-3 font-mono text-[12.5px] leading-snug" />
        <div>
          <p className="mb-3 flex items-center gap-5">
            <Button onClick={preview} disabled={busy}>What would change</Button>
            {order && order.length > 0 && <Button tone="strong" onClick={apply} disabled={busy || done === order.length}>Apply</Button>}
            {draft !== undefined && <Word onClick={() => { setDraft(undefined); setSteps(undefined) }}>as the fleet is</Word>}
          </p>
          {order?.length === 0 && <p className="text-soft">Nothing: everything is as the file says.</p>}
          <ol aria-live="polite">
            {order?.map((s, i) => (
              <li key={i} className={`grid grid-cols-[7.5rem_minmax(0,1fr)] gap-x-4 border-t border-line py-1.5 ${i < done ? "text-soft line-through" : ""}`}>
                <b className="font-medium">{verbs[s.what]}</b>
                <span className="min-w-0 break-words"><Mono>{s.site}</Mono>{s.words && s.words.length > 0 && <span className="block text-[13px] text-soft">{s.words.join(", ")}</span>}</span>
              </li>
            ))}
          </ol>
          {busy && <p className="mt-3 text-accent">Being applied… <Link href="/operations" className="underline underline-offset-4">operations</Link></p>}
          {order && order.length > 0 && done === order.length && !busy && <p className="mt-3">Done.</p>}
        </div>
      </div>
    </>
  )
}
