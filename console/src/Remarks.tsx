// Remarks: what guests pointed at on a site's pages, and what the builder says to it.
import { useQuery } from "@tanstack/react-query"
import { useState } from "react"
import { answer, api, of, queries, told, useImage, type Invitation, type Remark } from "./api"
import { Mono, Notice, Word } from "./ui"

const look = 3000 // how often remarks are read, in milliseconds

export function Remarks({ name, invitation }: { name: string; invitation?: Invitation }) {
  const [done, setDone] = useState(false)
  const all =
    useQuery({
      queryKey: ["remarks", name],
      queryFn: async () => (await answer(api.GET("/api/v1/sites/{name}/remarks", of({ name })))) ?? [],
      refetchInterval: look,
    }).data ?? []
  if (all.length === 0) return null
  const shown = done ? all : all.filter((r) => r.state !== "done")
  return (
    <section className="mt-8" aria-label="Remarks">
      <div className="flex items-baseline gap-5">
        <h2 className="text-[15px] font-semibold">Remarks</h2>
        {all.length > shown.length || done ? (
          <Word className="text-[13px]" onClick={() => setDone(!done)}>
            {done ? "hide what is done" : `show ${all.length - shown.length} done`}
          </Word>
        ) : null}
      </div>
      <ol>
        {shown.map((r) => (
          <One key={r.id} remark={r} base={invitation && new URL(invitation.address).origin} />
        ))}
      </ol>
    </section>
  )
}

function One({ remark: r, base }: { remark: Remark; base?: string }) {
  const [text, setText] = useState("")
  const [fault, setFault] = useState<string>()
  const path = of({ name: r.site, id: r.id })
  const say = (body: { text?: string; state?: Remark["state"] }) =>
    answer(api.POST("/api/v1/sites/{name}/remarks/{id}", { ...path, body }))
      .then(() => {
        setText("")
        return queries.invalidateQueries({ queryKey: ["remarks"] })
      })
      .catch((error: unknown) => setFault(told(error)))
  return (
    <li className="grid gap-x-6 gap-y-2 border-t border-line py-3 sm:grid-cols-[minmax(0,1fr)_14rem]">
      <div className="min-w-0">
        <Said who={r.who} at={r.at} text={r.text} />
        {r.answers.map((a, n) => (
          <Said key={n} who={a.builder ? `${a.who} (you)` : a.who} at={a.at} text={a.text} inner />
        ))}
        {r.drawn && <Drawing remark={r} />}
        <form
          className="mt-2 flex flex-wrap items-baseline gap-x-4 gap-y-1"
          onSubmit={(e) => {
            e.preventDefault()
            void say({ text })
          }}
        >
          <input
            aria-label={`Answer to remark ${r.id}`}
            placeholder="Answer"
            value={text}
            onChange={(e) => setText(e.target.value)}
            className="min-w-40 flex-1 border-b border-line-strong bg-transparent"
          />
          <Word type="submit" disabled={!text}>
            send
          </Word>
          <Word onClick={() => void say({ state: r.state === "done" ? "open" : "done" })}>
            {r.state === "done" ? "open it again" : "it is done"}
          </Word>
        </form>
        {fault && <Notice tone="fail">{fault}</Notice>}
      </div>
      <Where remark={r} base={base} />
    </li>
  )
}

const Said = ({ who, at, text, inner }: { who: string; at: string; text: string; inner?: boolean }) => (
  <p className={`break-words whitespace-pre-wrap ${inner ? "mt-1 border-l-2 border-line-strong pl-3" : ""}`}>
    <span className="mr-2 text-[13px] text-soft">
      {who}, {new Date(at).toLocaleString("sv").slice(5, 16)}
    </span>
    {text}
  </p>
)

// Where is where the guest pointed: the page, the element, and the window that it was seen in.
const Where = ({ remark: r, base }: { remark: Remark; base?: string }) => (
  <p className="min-w-0 text-[13px] break-words text-soft">
    <span className={r.state === "open" ? "font-semibold text-accent" : ""}>{r.state}</span>
    {" · "}
    {base ? (
      <a href={base + r.page} target="_blank" rel="noreferrer" className="underline underline-offset-4">
        {r.page}
      </a>
    ) : (
      <Mono>{r.page}</Mono>
    )}
    <br />
    {r.excerpt ? `“${r.excerpt}”` : "the whole page"}, in {r.width} × {r.height}
    <br />
    <span className="text-faint">{r.browser}</span>
  </p>
)

function Drawing({ remark: r }: { remark: Remark }) {
  const picture = useImage(`/sites/${r.site}/remarks/${r.id}/drawing.png`)
  return picture ? (
    <img src={picture} alt={`What ${r.who} drew`} className="mt-2 max-h-96 border border-line" />
  ) : null
}
