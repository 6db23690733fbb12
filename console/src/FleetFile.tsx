// Fleet file: the fleet as a text that can be kept, compared and applied.
import { useQuery } from "@tanstack/react-query"
import { useEffect, useRef, useState } from "react"
import { Link } from "wouter"
import { answer, api, told, useOperations, type FleetStep, type Operation } from "./api"
import { useOperation } from "./live"
import { Button, Mono, Notice, Word } from "./ui"

const verbs: Record<FleetStep["what"], string> = {
  make: "make",
  restack: "put on",
  readdress: "re-address",
  domains: "further domains",
  title: "give the title",
  settings: "set",
  label: "label",
  start: "start",
  stop: "stop",
}

// useBrought takes a fleet file that was dropped on a page.
function useBrought(write: (text: string) => void) {
  const latest = useRef(write)
  latest.current = write
  useEffect(() => {
    const take = () => {
      const text = sessionStorage.getItem("fleet file")
      sessionStorage.removeItem("fleet file")
      if (text !== null) latest.current(text)
    }
    take()
    addEventListener("vessik:fleet-file", take)
    return () => removeEventListener("vessik:fleet-file", take)
  }, [])
}

export function FleetFile() {
  const written = useQuery({
    queryKey: ["fleet-file"],
    queryFn: () => answer(api.GET("/api/v1/fleet")),
  })
  const [draft, setDraft] = useState<string>()
  const [steps, setSteps] = useState<FleetStep[]>()
  const [applied, setApplied] = useState<string>()
  const [fault, setFault] = useState<string>()
  const text = draft ?? written.data?.text ?? ""
  const write = (next: string | undefined) => {
    setDraft(next)
    setSteps(undefined)
  }
  useBrought(write)
  const preview = async () => {
    setFault(undefined)
    setSteps(undefined)
    setApplied(undefined)
    try {
      setSteps((await answer(api.POST("/api/v1/fleet/compare", { body: { text } }))) ?? [])
    } catch (error) {
      setFault(told(error))
    }
  }
  const apply = async () => {
    setFault(undefined)
    try {
      setApplied((await answer(api.POST("/api/v1/fleet/match", { body: { text } }))).id)
    } catch (error) {
      setFault(told(error))
    }
  }
  const operation = useOperations().data?.find((o) => o.id === applied)
  const busy = operation?.state === "running"
  useEffect(() => {
    if (operation?.state === "done") setDraft(undefined)
  }, [operation?.state])
  return (
    <>
      <Head />
      {written.isError && <Notice tone="fail">{written.error.message}</Notice>}
      {fault && <Notice tone="fail">{fault}</Notice>}
      <div className="grid md:grid-cols-[minmax(0,1.25fr)_minmax(0,1fr)] gap-x-10">
        <textarea
          aria-label="Fleet file"
          name="fleet"
          value={text}
          onChange={(e) => write(e.target.value)}
          spellCheck={false}
          rows={26}
          className="w-full resize-y border border-line-strong bg-sheet p-3 font-mono text-[12.5px] leading-snug"
        />
        <div>
          <p className="mb-3 flex items-center gap-5">
            <Button onClick={preview} disabled={busy}>
              Preview changes
            </Button>
            {steps && steps.length > 0 && (
              <Button tone="strong" onClick={apply} disabled={busy || applied !== undefined}>
                Apply
              </Button>
            )}
            {draft !== undefined && <Word onClick={() => write(undefined)}>as the fleet is</Word>}
          </p>
          {steps?.length === 0 && <p className="text-soft">Nothing: everything is as the file says.</p>}
          <Steps steps={steps ?? []} operation={applied ? operation : undefined} />
        </div>
      </div>
    </>
  )
}

const Head = () => (
  <>
    <p className="text-[13px] text-soft">
      <Link href="/" className="underline decoration-line-strong underline-offset-4">
        Fleet
      </Link>{" "}
      / as a file
    </p>
    <h1 className="mt-1 text-[26px] font-bold tracking-tight">Fleet file</h1>
    <p className="mb-4 max-w-3xl text-soft">
      The sites as a text to keep, to share and to change. What it does not name is left alone; applying it
      twice changes nothing.
    </p>
  </>
)

// Steps are what would be done, and where it stands once it is being done.
function Steps({ steps, operation }: { steps: FleetStep[]; operation?: Operation }) {
  const watched = useOperation(operation?.id)
  const stateOf = (s: FleetStep) =>
    watched?.sites.find((part) => part.site === s.site)?.steps.find((each) => each.step === s.what)?.state
  const problems = (watched ?? operation)?.sites.filter((part) => part.problem) ?? []
  return (
    <>
      <ol aria-live="polite">
        {steps.map((s) => (
          <li
            key={s.site + s.what}
            className={`grid grid-cols-[7.5rem_minmax(0,1fr)] gap-x-4 border-t border-line py-1.5 ${stateOf(s) === "done" ? "text-soft line-through" : ""}`}
          >
            <b className="font-medium">{verbs[s.what]}</b>
            <span className="min-w-0 break-words">
              <Mono>{s.site}</Mono>
              {stateOf(s) === "active" && (
                <span className="ml-3 text-accent">{watched?.activity[s.site]?.text ?? "being done"}</span>
              )}
              {s.words && s.words.length > 0 && (
                <span className="block text-[13px] text-soft">{s.words.join(", ")}</span>
              )}
            </span>
          </li>
        ))}
      </ol>
      {problems.map((part) => (
        <Notice key={part.site} tone="fail">
          {part.site}: {part.problem}
        </Notice>
      ))}
      {operation?.state === "running" && (
        <p className="mt-3 text-accent">
          Being applied…{" "}
          <Link href="/operations" className="underline underline-offset-4">
            operations
          </Link>
        </p>
      )}
      {operation?.state === "done" && <p className="mt-3">Done.</p>}
    </>
  )
}
