// Logs: followed live, filtered, held still.
import { useEffect, useRef, useState } from "react"
import { useQuery } from "@tanstack/react-query"
import { answer, api, of, type LogLine } from "./api"
import { stream } from "./stream"
import { Button, Crumbs } from "./ui"

const most = 3000

// useLines are the newest lines of a site's logs, as they come; while they are held, they wait.
function useLines(name: string, held: boolean, checks: boolean) {
  const [lines, setLines] = useState<LogLine[]>([])
  const waiting = useRef<LogLine[]>([])
  const still = useRef(false)
  still.current = held
  useEffect(() => {
    setLines([])
    const source = stream(`/sites/${name}/logs/events?last=100&follow=true&checks=${checks}`)
    source.on("begin", () => {
      waiting.current = []
      setLines([])
    })
    source.on("line", (data) => waiting.current.push(JSON.parse(data)))
    const timer = setInterval(() => {
      if (still.current || waiting.current.length === 0) return
      const more = waiting.current
      waiting.current = []
      setLines((before) => [...before, ...more].slice(-most))
    }, 150)
    return () => {
      source.close()
      clearInterval(timer)
    }
  }, [name, checks])
  return lines
}

export function LogsPage({ name }: { name: string }) {
  const logs =
    useQuery({
      queryKey: ["logs", name],
      queryFn: () => answer(api.GET("/api/v1/sites/{name}/logs", of({ name }))),
    }).data ?? []
  const [hidden, setHidden] = useState<string[]>(["fpm", "database"])
  const [filter, setFilter] = useState("")
  const [held, setHeld] = useState(false)
  const [checks, setChecks] = useState(false)
  const lines = useLines(name, held, checks)
  const end = useRef<HTMLDivElement>(null)
  useEffect(() => {
    if (!held) end.current?.scrollIntoView({ block: "nearest" })
  }, [lines, held])
  const shown = lines.filter(
    (l) => !hidden.includes(l.log) && l.text.toLowerCase().includes(filter.toLowerCase()),
  )
  return (
    <>
      <Crumbs name={name} here="logs" />
      <div className="mb-3 mt-1 flex flex-wrap items-center gap-x-5 gap-y-2">
        <h1 className="text-[34px] font-bold leading-tight tracking-tight">Logs of {name}</h1>
        <span className="grow" />
        {logs.map((log) => (
          <Choice
            key={log.name}
            label={log.name}
            about={`${log.about}: ${log.path}`}
            checked={!hidden.includes(log.name)}
            change={(on) => setHidden(on ? hidden.filter((h) => h !== log.name) : [...hidden, log.name])}
          />
        ))}
        <Choice
          label="own checks"
          about="Requests of Vessik's own checks in the access log"
          checked={checks}
          change={setChecks}
        />
        <input
          type="search"
          aria-label="Filter lines"
          value={filter}
          onChange={(e) => setFilter(e.target.value)}
          placeholder="only lines with…"
          className="w-56 rounded-sm border border-line-strong bg-sheet px-2.5 py-1 text-[14px] placeholder:text-faint"
        />
        <Button aria-pressed={held} onClick={() => setHeld(!held)}>
          {held ? "Go on" : "Hold still"}
        </Button>
      </div>
      <div
        role="log"
        // eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex -- it is scrolled with the keyboard
        tabIndex={0}
        aria-label="Lines"
        className="h-[65vh] overflow-auto border border-line-strong bg-sheet p-3 font-mono text-[12.5px] leading-relaxed"
      >
        {shown.length === 0 && (
          <p className="font-sans text-[15px] text-soft">
            No lines{filter && ` with “${filter}”`} yet. What is logged from now on appears here.
          </p>
        )}
        {shown.map((l, i) => (
          <div key={i} className="grid grid-cols-[5rem_1fr] gap-x-3">
            <span className="text-soft">{l.log}</span>
            <span
              className={`break-all ${/fatal|error\]|emerg|crit\]|PHP Parse/i.test(l.text) ? "text-fail" : ""}`}
            >
              {l.text}
            </span>
          </div>
        ))}
        <div ref={end} />
      </div>
    </>
  )
}

// Choice is what is shown, or left out.
function Choice({
  label,
  about,
  checked,
  change,
}: {
  label: string
  about: string
  checked: boolean
  change: (on: boolean) => void
}) {
  return (
    <label title={about} className="flex items-center gap-1.5 text-[13px]">
      <input
        type="checkbox"
        className="accent-(--accent)"
        checked={checked}
        onChange={(e) => change(e.target.checked)}
      />{" "}
      {label}
    </label>
  )
}
