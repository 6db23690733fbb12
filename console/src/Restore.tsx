// Restore points of a site: what it was at one moment, to go back to.
import { useQuery } from "@tanstack/react-query"
import { useState } from "react"
import {
  answer,
  api,
  download,
  of,
  queries,
  told,
  useOperations,
  type RestorePoint,
  type RestorePreview,
} from "./api"
import { Button, Crumbs, Mono, Notice, Word } from "./ui"

// useAct carries something out, and keeps why it was refused.
export function useAct() {
  const [fault, setFault] = useState<string>()
  const act = async (work: () => Promise<unknown>) => {
    setFault(undefined)
    try {
      await work()
      await queries.invalidateQueries()
    } catch (error) {
      setFault(told(error))
    }
  }
  return { fault, act }
}

// useBusy tells what is being done with a site.
export function useBusy(name: string) {
  const operation = useOperations().data?.find(
    (o) => o.state === "running" && o.sites.some((part) => part.site === name),
  )
  return operation?.kind
}

export function RestorePage({ name }: { name: string }) {
  const points = useQuery({
    queryKey: ["restore", name],
    queryFn: async () => (await answer(api.GET("/api/v1/sites/{name}/restore", of({ name })))) ?? [],
  })
  const { fault, act } = useAct()
  const busy = useBusy(name)
  const [note, setNote] = useState("")
  return (
    <>
      <Crumbs name={name} here="restore points" />
      <h1 className="mt-1 text-[26px] font-bold tracking-tight">Restore points</h1>
      <p className="mb-4 max-w-3xl text-soft">
        Files and database at one moment. Changes of stack, address, plugins and content take one by
        themselves. Of these the newest two stay, one of each hour of a day, of each day of a week and of each
        week of a month; one that you take stays until you drop it.
      </p>
      {points.isError && <Notice tone="fail">{points.error.message}</Notice>}
      {fault && <Notice tone="fail">{fault}</Notice>}
      <form
        className="mb-5 flex flex-wrap items-end gap-x-5 gap-y-2"
        onSubmit={(e) => {
          e.preventDefault()
          void act(async () => {
            await answer(
              api.POST("/api/v1/sites/{name}/restore", {
                ...of({ name }),
                body: { note: note || undefined },
              }),
            )
            setNote("")
          })
        }}
      >
        <label className="grow basis-72 text-[13px] text-soft">
          What it is for
          <input
            name="note"
            value={note}
            maxLength={200}
            onChange={(e) => setNote(e.target.value)}
            placeholder="before the new theme"
            className="w-full border-b border-line-strong bg-transparent py-1 text-[14px] text-ink placeholder:text-faint"
          />
        </label>
        <Button type="submit" tone="strong" disabled={!!busy}>
          Take one now
        </Button>
        <span aria-live="polite" className="text-[13px] text-accent">
          {busy}
        </span>
      </form>
      <Rules name={name} busy={!!busy} act={act} />
      {points.data?.length === 0 && <p className="py-6 text-soft">There is none yet.</p>}
      <ul className="border-b border-line-strong">
        {points.data?.map((p) => (
          <Point key={p.id} name={name} point={p} busy={!!busy} act={act} />
        ))}
      </ul>
    </>
  )
}

const times = [
  [0, "never"],
  [1800, "every half hour"],
  [3600, "every hour"],
  [6 * 3600, "every 6 hours"],
  [24 * 3600, "every day"],
] as const

// Rules say when points are taken by themselves, and how much all may take.
function Rules({ name, busy, act }: { name: string; busy: boolean; act: ReturnType<typeof useAct>["act"] }) {
  const rules = useQuery({
    queryKey: ["restore rules", name],
    queryFn: () => answer(api.GET("/api/v1/sites/{name}/restore/rules", of({ name }))),
  }).data
  if (!rules) return null
  const set = (body: { every?: number; most?: number }) =>
    act(() => answer(api.PATCH("/api/v1/sites/{name}/restore/rules", { ...of({ name }), body })))
  const field = "ml-2 border-b border-line-strong bg-transparent py-0.5 text-[13px] text-ink"
  const gigabytes = [1, 2, 5, 10, 20, 50]
  const known = times.some(([seconds]) => seconds === rules.every)
  return (
    <p className="mb-4 flex flex-wrap gap-x-8 gap-y-2 text-[13px] text-soft">
      <label>
        Take one where anything has changed
        <select
          name="every"
          value={rules.every}
          disabled={busy}
          onChange={(e) => void set({ every: Number(e.target.value) })}
          className={field}
        >
          {!known && <option value={rules.every}>every {rules.every} seconds</option>}
          {times.map(([seconds, words]) => (
            <option key={seconds} value={seconds}>
              {words}
            </option>
          ))}
        </select>
      </label>
      <label>
        All take at most
        <select
          name="most"
          value={rules.most}
          disabled={busy}
          onChange={(e) => void set({ most: Number(e.target.value) })}
          className={field}
        >
          {!gigabytes.includes(rules.most / 2 ** 30) && (
            <option value={rules.most}>{Math.round(rules.most / 2 ** 20)} MB</option>
          )}
          {gigabytes.map((n) => (
            <option key={n} value={n * 2 ** 30}>
              {n} GB
            </option>
          ))}
        </select>
      </label>
    </p>
  )
}

// Point is one restore point, and what going back to it would change.
function Point({
  name,
  point: p,
  busy,
  act,
}: {
  name: string
  point: RestorePoint
  busy: boolean
  act: ReturnType<typeof useAct>["act"]
}) {
  const [preview, setPreview] = useState<RestorePreview>()
  const [asked, setAsked] = useState(false)
  const one = of({ name, id: p.id })
  return (
    <li className="grid items-baseline gap-x-5 border-t border-line py-2 lg:grid-cols-[3rem_11rem_5rem_6rem_minmax(0,1fr)_auto]">
      <Mono className="font-semibold">{p.id}</Mono>
      <Mono className="text-soft">{new Date(p.at).toLocaleString("sv")}</Mono>
      <span className="text-soft">{Math.ceil(p.bytes / 1e6)} MB</span>
      <span className="truncate text-soft">{p.who}</span>
      <span className="min-w-0 break-words">
        {p.note || <span className="text-faint">no note</span>}
        {p.kept && <span className="text-soft"> · kept</span>}
      </span>
      <span className="flex gap-4">
        <Word
          disabled={busy}
          onClick={() =>
            act(async () =>
              setPreview(await answer(api.POST("/api/v1/sites/{name}/restore/{id}/preview", one))),
            )
          }
        >
          Preview changes
        </Word>
        <Word
          disabled={busy}
          onClick={() =>
            act(() => answer(api.POST("/api/v1/sites/{name}/restore/{id}/back", { ...one, body: {} })))
          }
        >
          go back
        </Word>
        <Word onClick={() => act(() => download(`/sites/${name}/restore/${p.id}/parcel`))}>in one file</Word>
        <Word
          disabled={busy}
          className="text-fail"
          onBlur={() => setAsked(false)}
          onClick={() =>
            asked ? act(() => answer(api.DELETE("/api/v1/sites/{name}/restore/{id}", one))) : setAsked(true)
          }
        >
          {asked ? "drop for good" : "drop…"}
        </Word>
      </span>
      {preview && <Changes preview={preview} />}
    </li>
  )
}

function Changes({ preview: p }: { preview: RestorePreview }) {
  const most = 12
  return (
    <dl className="col-span-full mt-2 grid gap-x-6 gap-y-2 border-l-4 border-line-strong pl-4 text-[13px] lg:grid-cols-4">
      {(
        [
          ["Files that come back", p.new_files],
          ["Files that change", p.changed_files],
          ["Files that go", p.gone_files],
          ["Tables", p.tables],
        ] as const
      ).map(([title, names]) => (
        <div key={title} className="min-w-0">
          <dt className="text-soft">
            {title}: {names.length}
          </dt>
          {names.slice(0, most).map((each) => (
            <dd key={each} className="break-words font-mono text-[12.5px]">
              {each}
            </dd>
          ))}
          {names.length > most && <dd className="text-soft">and {names.length - most} more</dd>}
        </div>
      ))}
    </dl>
  )
}
