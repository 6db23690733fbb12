// Query: statements that are written and asked; what comes is shown as it comes, and a query that is left ends on the server as well.
import { MySQL, sql } from "@codemirror/lang-sql"
import { Compartment } from "@codemirror/state"
import { basicSetup, EditorView } from "codemirror"
import { useEffect, useRef, useState } from "react"
import { request, told, type DatabaseData, type QueryLine } from "./api"
import { useDatabase } from "./tables"
import { linesOf } from "./stream"
import { Sure } from "./Sure"
import { Button, Notice, Word } from "./ui"

const most = 500 // rows of a result that are shown
const kept = 30 // queries that are remembered

// Result is what one statement answered.
interface Result {
  columns: NonNullable<QueryLine["columns"]>
  rows: (string | null)[][]
  end?: QueryLine["end"]
}

const theme = EditorView.theme({
  "&": {
    fontSize: "13px",
    backgroundColor: "var(--sheet)",
    color: "var(--ink)",
    border: "1px solid var(--line-strong)",
  },
  ".cm-gutters": { backgroundColor: "var(--wash)", color: "var(--soft)", border: "none" },
  ".cm-activeLine, .cm-activeLineGutter": {
    backgroundColor: "color-mix(in srgb, var(--wash) 50%, transparent)",
  },
  ".cm-content": { fontFamily: "var(--font-mono)", caretColor: "var(--ink)", minHeight: "6em" },
  ".cm-cursor": { borderLeftColor: "var(--ink)" },
  "&.cm-focused": { outline: "2px solid var(--accent)" },
  ".cm-tooltip": { backgroundColor: "var(--sheet)", border: "1px solid var(--line-strong)" },
  "&.cm-focused .cm-selectionBackground, .cm-selectionBackground": {
    backgroundColor: "var(--line) !important",
  },
})

const language = (tables: DatabaseData["tables"]) =>
  sql({
    dialect: MySQL,
    schema: Object.fromEntries(tables.map((t) => [t.name, t.columns ?? []])),
    upperCaseKeywords: true,
  })

// useEditor is the text that is being written, with completion from the names of tables and columns.
function useEditor(tables: DatabaseData["tables"] | undefined, ask: () => void) {
  const at = useRef<HTMLDivElement>(null)
  const view = useRef<EditorView>(undefined)
  const asking = useRef(ask)
  useEffect(() => {
    asking.current = ask
  })
  useEffect(() => {
    view.current = new EditorView({
      parent: at.current ?? undefined,
      extensions: [
        EditorView.domEventHandlers({
          keydown: (e) => {
            if (e.key !== "Enter" || !(e.ctrlKey || e.metaKey)) return false
            asking.current()
            return true
          },
        }),
        basicSetup,
        known.of(language([])),
        theme,
        EditorView.lineWrapping,
        EditorView.contentAttributes.of({ "aria-label": "Statements" }),
      ],
    })
    return () => view.current?.destroy()
  }, [])
  useEffect(() => {
    view.current?.dispatch({ effects: known.reconfigure(language(tables ?? [])) })
  }, [tables])
  const text = () => view.current?.state.doc.toString() ?? ""
  const write = (next: string) =>
    view.current?.dispatch({ changes: { from: 0, to: view.current.state.doc.length, insert: next } })
  return { at, text, write }
}

// known is what is completed from, which comes later.
const known = new Compartment()

// useAsking asks statements, and holds what came.
function useAsking(name: string) {
  const [results, setResults] = useState<Result[]>([])
  const [fault, setFault] = useState<string>()
  const [running, setRunning] = useState<AbortController>()
  const ask = async (sql: string, preview: boolean) => {
    const stop = new AbortController()
    setRunning(stop)
    setFault(undefined)
    setResults([])
    const all: Result[] = []
    let failed = false
    const fail = (words: string) => {
      failed = true
      setFault(words)
    }
    try {
      const response = await request(`/sites/${name}/database/query`, {
        method: "POST",
        headers: { "Content-Type": "application/json" },
        body: JSON.stringify({ sql, preview, limit: most }),
        signal: stop.signal,
      })
      if (!response.ok) throw new Error(((await response.json()) as { detail?: string }).detail)
      let now: Result = { columns: [], rows: [] }
      for await (const line of linesOf<QueryLine>(response)) {
        if (line.columns) now = { columns: line.columns, rows: [] }
        if (line.row) now.rows.push(line.row)
        if (line.error) fail(line.error)
        if (line.end) {
          all.push({ ...now, end: line.end })
          now = { columns: [], rows: [] }
          setResults([...all])
        }
      }
    } catch (error) {
      fail(stop.signal.aborted ? "It was ended." : told(error))
    }
    setRunning(undefined)
    return failed ? undefined : all
  }
  return { results, fault, running, ask }
}

const historyKey = "vessik queries"
const history = (): string[] => JSON.parse(localStorage.getItem(historyKey) ?? "[]") as string[]

function remember(sql: string) {
  localStorage.setItem(
    historyKey,
    JSON.stringify([sql, ...history().filter((q) => q !== sql)].slice(0, kept)),
  )
}

// reads is one statement that changes nothing.
const reads = /^(select|show|explain|describe|desc)\b[^;]*;?$/i

export default function Query({ name }: { name: string }) {
  const tables = useDatabase(name, true).data?.tables
  const { results, fault, running, ask } = useAsking(name)
  const [before, setBefore] = useState<{ sql: string; rows?: number }>()
  const [last, setLast] = useState(false) // whether what is shown was only previewed
  const carryOut = async (sql: string, preview: boolean) => {
    setBefore(undefined)
    setLast(preview)
    remember(sql)
    return ask(sql, preview)
  }
  const go = async () => {
    const sql = editor.text().trim()
    if (!sql || running) return
    if (reads.test(sql)) return void carryOut(sql, false)
    const told = await carryOut(sql, true) // what may change something is tried out first
    if (told?.every((r) => r.columns.length > 0)) return // it only reads
    setBefore({ sql, rows: told?.reduce((sum, r) => sum + (r.end?.affected ?? 0), 0) })
  }
  const editor = useEditor(tables, () => void go())
  return (
    <section aria-label="Query" className="mt-8">
      <h2 className="mb-1 text-[15px] font-semibold">Query</h2>
      <div ref={editor.at} />
      <p className="mt-2 flex flex-wrap items-baseline gap-x-5 gap-y-2">
        <Button onClick={() => void go()} disabled={!!running}>
          {running ? "Asking…" : "Ask (Ctrl Enter)"}
        </Button>
        {running && <Word onClick={() => running.abort()}>end it</Word>}
        <Word onClick={() => void carryOut("EXPLAIN " + editor.text().split(";")[0], false)}>explain</Word>
        <select
          aria-label="Earlier queries"
          value=""
          onChange={(e) => editor.write(e.target.value)}
          className="max-w-72 border-b border-line-strong bg-transparent"
        >
          <option value="">earlier queries…</option>
          {history().map((q) => (
            <option key={q}>{q}</option>
          ))}
        </select>
      </p>
      {fault && <Notice tone="fail">{fault}</Notice>}
      {before && !running && (
        <Sure
          name={name}
          rows={before.rows}
          go={() => void carryOut(before.sql, false)}
          leave={() => setBefore(undefined)}
        />
      )}
      {!before && results.map((r, i) => <Shown key={i} result={r} preview={last} />)}
    </section>
  )
}

function Shown({ result: { columns, rows, end }, preview }: { result: Result; preview: boolean }) {
  if (columns.length === 0) {
    return (
      <p className="mt-3 text-soft">
        {end?.affected} rows {preview ? "would be changed" : "changed"} in {end?.milliseconds} ms.
      </p>
    )
  }
  return (
    <div className="mt-3">
      <div className="max-h-[60vh] overflow-auto border-t border-line-strong">
        <table className="border-collapse text-[13px]">
          <thead>
            <tr className="text-left text-soft">
              {columns.map((c, i) => (
                <th key={i} className="sticky top-0 bg-paper pr-5 font-normal">
                  {c.name}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {rows.map((row, n) => (
              <tr key={n} className="border-t border-line align-top">
                {row.map((value, i) => (
                  <td key={i} className="max-w-[30rem] truncate py-0.5 pr-5 font-mono">
                    {value ?? <i className="text-faint">NULL</i>}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <p className="text-soft">
        {rows.length} rows{end?.cut ? ", and more" : ""} in {end?.milliseconds} ms.
      </p>
    </div>
  )
}
