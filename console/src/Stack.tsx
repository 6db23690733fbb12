// Changing a site's stack: the engines as choices beside the facts, what would happen, and what the last change found.
import { useQuery, type UseQueryResult } from "@tanstack/react-query"
import { useState } from "react"
import {
  changeOf,
  answer,
  api,
  of,
  queries,
  told,
  useEngines,
  useOperations,
  type Change,
  type RestackPreview,
  type Site,
} from "./api"
import { Button, Mono, Notice } from "./ui"

const parts = [
  ["php", "PHP"],
  ["web", "Web server"],
  ["database", "Database server"],
] as const

export function ChangeStack({ site: s, busy }: { site: Site; busy: boolean }) {
  const engines = useEngines().data?.engines ?? []
  const [wanted, setWanted] = useState<Partial<Record<"php" | "web" | "database", string>>>({})
  const [stay, setStay] = useState(false)
  const [walk, setWalk] = useState(false)
  const [fault, setFault] = useState<string>()
  const now = { php: s.stack.php.engine, web: s.stack.web.engine, database: s.stack.database.engine }
  const asked = Object.fromEntries(Object.entries(wanted).filter(([kind, id]) => id !== now[kind as "php"]))
  const any = Object.keys(asked).length > 0
  const preview = useQuery({
    queryKey: ["preview", s.name, asked],
    queryFn: () =>
      answer(api.POST("/api/v1/sites/{name}/restack/preview", { ...of({ name: s.name }), body: asked })),
    enabled: any,
    retry: false,
  })
  const last = useOperations().data?.find((o) => o.kind === "restack" && changeOf(o)?.site === s.name)
  const change = changeOf(last)
  const go = async () => {
    setFault(undefined)
    try {
      await answer(
        api.POST("/api/v1/sites/{name}/restack", { ...of({ name: s.name }), body: { ...asked, stay, walk } }),
      )
      setWanted({})
      await queries.invalidateQueries()
    } catch (error) {
      setFault(told(error))
    }
  }
  return (
    <div>
      <div className="grid grid-cols-[7rem_1fr] items-baseline gap-x-3 gap-y-2">
        {parts.map(([kind, label]) => (
          <label key={kind} className="contents">
            <span className="text-[13px] text-soft">{label}</span>
            <select
              name={`stack-${kind}`}
              value={wanted[kind] ?? now[kind]}
              disabled={busy}
              onChange={(e) => e.target.value && setWanted({ ...wanted, [kind]: e.target.value })}
              className={`w-full border-b bg-transparent py-0.5 font-mono text-[13px] ${asked[kind] ? "border-accent text-accent" : "border-line-strong"}`}
            >
              {engines
                .filter((e) => e.kind === kind)
                .map((e) => (
                  <option key={e.id} value={e.id}>
                    {e.id}
                    {e.version ? ` (${e.version})` : ", fetched first"}
                  </option>
                ))}
            </select>
          </label>
        ))}
        <span className="text-[13px] text-soft">CMS</span>
        <span>
          {s.cms.title} {s.cms.version}
        </span>
      </div>
      {any && (
        <Outlook
          preview={preview}
          busy={busy}
          stay={stay}
          setStay={setStay}
          walk={walk}
          setWalk={setWalk}
          go={go}
        />
      )}
      {fault && <Notice tone="fail">{fault}</Notice>}
      {!any && change && last?.state !== "running" && <LastChange change={change} />}
    </div>
  )
}

// Outlook is what a switch would do, before it is done.
function Outlook({
  preview,
  busy,
  stay,
  setStay,
  walk,
  setWalk,
  go,
}: {
  preview: UseQueryResult<RestackPreview>
  busy: boolean
  stay: boolean
  setStay: (stay: boolean) => void
  walk: boolean
  setWalk: (walk: boolean) => void
  go: () => Promise<void>
}) {
  return (
    <div className="mt-4 border-l-4 border-accent pl-3" aria-live="polite">
      {preview.isError && <p className="text-fail">{told(preview.error)}</p>}
      {preview.data && (
        <>
          {preview.data.warning && <p className="font-semibold text-fail">{preview.data.warning}</p>}
          <p className="text-[13px] text-soft">
            {preview.data.supported}. What visitors notice: {preview.data.downtime}.
          </p>
          <p className="mt-1 text-[13px] text-soft">
            {preview.data.steps.join(" → ")}. If a check that passes now fails then, the site goes back by
            itself.
          </p>
          <p className="mt-3 flex flex-wrap items-center gap-x-5 gap-y-2">
            <Button tone="strong" disabled={busy} onClick={go}>
              Switch
            </Button>
            <label className="flex items-center gap-2 text-[13px]">
              <input
                type="checkbox"
                className="accent-(--accent)"
                checked={stay}
                onChange={(e) => setStay(e.target.checked)}
              />{" "}
              stay there although a check fails
            </label>
            <label className="flex items-center gap-2 text-[13px]">
              <input
                type="checkbox"
                className="accent-(--accent)"
                checked={walk}
                onChange={(e) => setWalk(e.target.checked)}
              />{" "}
              judge by a walk through all pages, too
            </label>
          </p>
        </>
      )}
    </div>
  )
}

// LastChange is what came of the last one.
function LastChange({ change }: { change: Change }) {
  const words = ({ php, web, database }: Change["before"]["stack"]) => [php, web, database].join(", ")
  return (
    <p className="mt-3 text-[13px] text-soft">
      Last change: <Mono>{words(change.before.stack)}</Mono> → <Mono>{words(change.after.stack)}</Mono>
      {change.went_back ? (
        <b className="font-semibold text-fail">
          {" "}
          went back ({change.worse?.join(", ") || "it could not be carried out"})
        </b>
      ) : (
        `, longest time without an answer ${change.downtime_milliseconds} ms`
      )}
    </p>
  )
}
