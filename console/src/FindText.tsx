// FindText tells where a text stands in a site's database, and puts another in its place.
import { useState } from "react"
import { Link } from "wouter"
import { answer, api, of, told, type FoundText as Found, type Replaced } from "./api"
import { tablePath } from "./tables"
import { Sure } from "./Sure"
import { Button, Mono, Notice } from "./ui"

export function FindText({ name }: { name: string }) {
  const [text, setText] = useState("")
  const [found, setFound] = useState<{ text: string; places: Found[] }>()
  const [fault, setFault] = useState<string>()
  const look = async () => {
    setFault(undefined)
    try {
      const query = { text }
      const places = await answer(
        api.GET("/api/v1/sites/{name}/database/find", { params: { path: { name }, query } }),
      )
      setFound({ text, places: places ?? [] })
    } catch (error) {
      setFault(told(error))
    }
  }
  return (
    <>
      <form
        className="mt-4 flex flex-wrap items-baseline gap-3"
        onSubmit={(e) => {
          e.preventDefault()
          void look()
        }}
      >
        <label>
          Where does this text stand?{" "}
          <input
            type="search"
            name="text"
            value={text}
            onChange={(e) => setText(e.target.value)}
            className="w-72 border-b border-line-strong bg-transparent"
          />
        </label>
        <Button type="submit" disabled={!text}>
          Find it
        </Button>
      </form>
      {fault && <Notice tone="fail">{fault}</Notice>}
      {found && found.places.length === 0 && <p className="mt-1 text-soft">It stands nowhere.</p>}
      <ul className="mt-1">
        {found?.places.map((f) => (
          <li key={f.table + f.column}>
            <Link
              href={`${tablePath(name, f.table)}?column=${encodeURIComponent(f.column)}&text=${encodeURIComponent(found.text)}`}
              className="font-mono text-[13px] underline underline-offset-4"
            >
              {f.table}.{f.column}
            </Link>{" "}
            <span className="text-soft">{f.rows === 1 ? "1 row" : `${f.rows} rows`}</span>
          </li>
        ))}
      </ul>
      {found && found.places.length > 0 && <Replace key={found.text} name={name} text={found.text} />}
    </>
  )
}

// Replace puts another text in its place, which is previewed first.
function Replace({ name, text }: { name: string; text: string }) {
  const [next, setNext] = useState("")
  const [shown, setShown] = useState<{ replaced: Replaced; preview: boolean }>()
  const [fault, setFault] = useState<string>()
  const [busy, setBusy] = useState(false)
  const carryOut = async (preview: boolean) => {
    setFault(undefined)
    setBusy(true)
    try {
      const body = { text, with: next, preview }
      const replaced = await answer(
        api.POST("/api/v1/sites/{name}/database/replace", { ...of({ name }), body }),
      )
      setShown({ replaced, preview })
    } catch (error) {
      setFault(told(error))
    }
    setBusy(false)
  }
  const rows = shown?.replaced.columns.reduce((sum, c) => sum + c.rows, 0)
  return (
    <form
      className="mt-2"
      onSubmit={(e) => {
        e.preventDefault()
        void carryOut(true)
      }}
    >
      <label>
        Put this in its place:{" "}
        <input
          name="with"
          value={next}
          onChange={(e) => {
            setNext(e.target.value)
            setShown(undefined)
          }}
          className="w-72 border-b border-line-strong bg-transparent"
        />
      </label>{" "}
      <Button type="submit" disabled={busy || next === text}>
        {busy ? "Looking…" : "Preview changes"}
      </Button>
      {fault && <Notice tone="fail">{fault}</Notice>}
      {shown && <Changes replaced={shown.replaced} />}
      {shown?.preview && !busy && rows !== undefined && rows > 0 && (
        <Sure name={name} rows={rows} go={() => void carryOut(false)} leave={() => setShown(undefined)} />
      )}
      {shown && !shown.preview && (
        <p role="status" className="mt-2">
          {rows === 1 ? "1 row is changed." : `${rows} rows are changed.`}
        </p>
      )}
    </form>
  )
}

// Changes are the columns in which something becomes another, with what stands there before and after.
function Changes({ replaced }: { replaced: Replaced }) {
  return (
    <>
      {replaced.columns.length === 0 && (
        <p className="mt-2 text-soft">
          Written just so, it stands nowhere: upper and lower case are told apart.
        </p>
      )}
      <dl className="mt-2 text-[13px]">
        {replaced.columns.map((c) => (
          <div key={c.table + c.column} data-replaced={`${c.table}.${c.column}`}>
            <dt>
              <Mono>
                {c.table}.{c.column}
              </Mono>{" "}
              <span className="text-soft">{c.rows === 1 ? "1 row" : `${c.rows} rows`}</span>
            </dt>
            {c.examples.map((example, i) => (
              <dd key={i} className="break-all border-l border-line pl-3 font-mono">
                <del className="block text-soft">{example.before}</del>
                <ins className="block no-underline">{example.after}</ins>
              </dd>
            ))}
          </div>
        ))}
      </dl>
      {replaced.left_count > 0 && (
        <p className="text-[13px] text-soft">
          {replaced.left_count === 1 ? "1 value is" : `${replaced.left_count} values are`} left alone:{" "}
          {[...new Set(replaced.left.map((l) => `${l.table}: ${l.why}`))].join("; ")}
        </p>
      )}
    </>
  )
}
