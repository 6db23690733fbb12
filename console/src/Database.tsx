// Database: a site's own database, as its own user: its tables, how other programs open it, where a text stands, and queries.
import { useQuery } from "@tanstack/react-query"
import { lazy, Suspense, useState } from "react"
import { Link } from "wouter"
import { answer, api, of, told, type DatabaseData, type FoundText } from "./api"
import { Button, Crumbs, Fact, Mono, Notice, Word } from "./ui"

const Query = lazy(() => import("./Query"))

const size = (bytes: number) =>
  bytes < 1 << 20 ? `${Math.ceil(bytes / 1024)} KB` : `${(bytes / (1 << 20)).toFixed(1)} MB`

export const tablePath = (name: string, table: string) =>
  `/sites/${name}/database/${encodeURIComponent(table)}`

export const useDatabase = (name: string) =>
  useQuery({
    queryKey: ["database", name],
    queryFn: () => answer(api.GET("/api/v1/sites/{name}/database", of({ name }))),
    retry: false,
  })

export function DatabasePage({ name }: { name: string }) {
  const page = useDatabase(name)
  if (page.isError) return <Notice tone="fail">{page.error.message}</Notice>
  if (!page.data) return <div className="h-40 animate-pulse bg-wash" aria-busy />
  const d = page.data
  return (
    <>
      <Crumbs name={name} here="database" />
      <h1 className="mt-1 text-[34px] font-bold leading-tight tracking-tight">Database of {name}</h1>
      <p className="mt-1 max-w-3xl text-soft">
        <Mono>{d.name}</Mono> on <Mono>{d.engine}</Mono>, seen as its own user <Mono>{d.user}</Mono>: with
        that user’s privileges, and never more.
      </p>
      <Programs name={name} />
      <Find name={name} />
      <Tables name={name} tables={d.tables} />
      <Suspense fallback={<div className="h-32 animate-pulse bg-wash" aria-busy />}>
        <Query name={name} tables={d.tables.map((t) => t.name)} />
      </Suspense>
    </>
  )
}

// Programs tells how other programs open the database, when somebody wants to see it.
function Programs({ name }: { name: string }) {
  const [open, setOpen] = useState<DatabaseData>()
  const [fault, setFault] = useState<string>()
  const ask = () =>
    answer(
      api.GET("/api/v1/sites/{name}/database", { params: { path: { name }, query: { secrets: true } } }),
    ).then(setOpen, (error: unknown) => setFault(told(error)))
  if (fault) return <Notice tone="fail">{fault}</Notice>
  if (!open) {
    return (
      <p className="mt-2">
        <Word onClick={() => void ask()}>open it with another program…</Word>
      </p>
    )
  }
  return (
    <dl className="mt-2 grid max-w-3xl grid-cols-[7rem_minmax(0,1fr)] gap-x-4 gap-y-0.5">
      {(
        [
          ["host and port", `${open.host}:${open.port}`],
          ["password", open.password],
          ["address", open.url],
        ] as const
      ).map(([term, value]) => (
        <Fact key={term} name={term}>
          <Mono className="break-all">{value}</Mono>
        </Fact>
      ))}
    </dl>
  )
}

// Find tells where a text stands.
function Find({ name }: { name: string }) {
  const [text, setText] = useState("")
  const [found, setFound] = useState<{ text: string; places: FoundText[] }>()
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
    </>
  )
}

function Tables({ name, tables }: { name: string; tables: DatabaseData["tables"] }) {
  if (tables.length === 0) return <p className="py-6 text-soft">It has no tables yet.</p>
  return (
    <div className="mt-5 overflow-x-auto">
      <table className="w-full border-collapse">
        <thead>
          <tr className="border-b border-line-strong text-left text-[13px] text-soft">
            <th className="pr-4 font-normal">Table</th>
            <th className="pr-4 text-right font-normal">Rows, about</th>
            <th className="pr-4 text-right font-normal">Size</th>
            <th className="pr-4 font-normal">Engine</th>
            <th className="font-normal">Collation</th>
          </tr>
        </thead>
        <tbody>
          {tables.map((t) => (
            <tr key={t.name} data-table={t.name} className="border-b border-line align-baseline">
              <td className="py-1 pr-4">
                <Link
                  href={tablePath(name, t.name)}
                  className="font-mono text-[13px] underline underline-offset-4"
                >
                  {t.name}
                </Link>
              </td>
              <td className="pr-4 text-right font-mono text-[13px]">
                {t.view ? "" : t.rows.toLocaleString("sv")}
              </td>
              <td className="whitespace-nowrap pr-4 text-right font-mono text-[13px]">
                {t.view ? "" : size(t.bytes)}
              </td>
              <td className="pr-4 text-soft">{t.view ? "view" : t.engine}</td>
              <td className="text-soft">{t.collation}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  )
}
