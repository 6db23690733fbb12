// TableFiles brings tables out as files, and a CSV file's rows into a table.
import { useRef, useState } from "react"
import { request, send, told } from "./api"
import { Notice, Word } from "./ui"

// save has the browser keep what the service answers, under a name.
async function save(path: string, name: string) {
  const answered = await request(path)
  if (!answered.ok) throw new Error(((await answered.json()) as { detail: string }).detail)
  const link = document.createElement("a")
  link.href = URL.createObjectURL(await answered.blob())
  link.download = name
  link.click()
  setTimeout(() => URL.revokeObjectURL(link.href), 60_000)
}

// Export writes tables, or the whole database where none is named, as SQL.
export function Export({ name, tables }: { name: string; tables: string[] }) {
  const [fault, setFault] = useState<string>()
  const [busy, setBusy] = useState(false)
  const write = (packed: string) => {
    setBusy(true)
    setFault(undefined)
    const query = new URLSearchParams(tables.map((t) => ["table", t]))
    if (packed) query.set("pack", packed)
    const file = `${tables.length === 1 ? tables[0] : name}.sql${packed && `.${packed}`}`
    save(`/sites/${name}/dump?${query}`, file)
      .catch((error: unknown) => setFault(told(error)))
      .finally(() => setBusy(false))
  }
  if (busy) return <span role="status">It is being written…</span>
  return (
    <>
      <span>
        {tables.length === 0
          ? "All of it as "
          : tables.length === 1
            ? "This table as "
            : `These ${tables.length} tables as `}
        {["", "gz", "zst"].map((packed) => (
          <Word key={packed} onClick={() => write(packed)} className="mr-3">
            SQL{packed && ` (.${packed})`}
          </Word>
        ))}
      </span>
      {fault && <Notice tone="fail">{fault}</Notice>}
    </>
  )
}

// Records writes a table as CSV, and adds those of a file.
export function Records({ name, table, added }: { name: string; table: string; added: () => void }) {
  const chooser = useRef<HTMLInputElement>(null)
  const [state, setState] = useState<{ fault?: string; sent?: number; rows?: number }>({})
  const path = `/sites/${name}/database/tables/${encodeURIComponent(table)}/csv`
  const add = async (file?: File) => {
    if (!file) return
    setState({ sent: 0 })
    try {
      const { rows } = await send<{ rows: number }>(path, file, (bytes) =>
        setState({ sent: bytes / file.size }),
      )
      setState({ rows })
      added()
    } catch (error) {
      setState({ fault: told(error) })
    }
    if (chooser.current) chooser.current.value = ""
  }
  return (
    <>
      <Word
        onClick={() =>
          void save(path, `${table}.csv`).catch((error: unknown) => setState({ fault: told(error) }))
        }
      >
        as CSV
      </Word>
      <Word onClick={() => chooser.current?.click()}>rows from a CSV file…</Word>
      <input
        ref={chooser}
        type="file"
        accept=".csv,text/csv"
        aria-label="CSV file"
        className="hidden"
        onChange={(e) => void add(e.target.files?.[0])}
      />
      {state.sent !== undefined && <progress value={state.sent} max={1} aria-label="Sent" />}
      {state.rows !== undefined && (
        <span role="status">{state.rows === 1 ? "1 row is added." : `${state.rows} rows are added.`}</span>
      )}
      {state.fault && <Notice tone="fail">{state.fault}</Notice>}
    </>
  )
}
