// Database: a site's own database, as its own user: its tables, how other programs open it, where a text stands, and queries.
import { lazy, Suspense, useState } from "react"
import { Link } from "wouter"
import { answer, api, told, type DatabaseData } from "./api"
import { bring } from "./Bring"
import { tablePath, useDatabase } from "./tables"
import { FindText } from "./FindText"
import { Export } from "./TableFiles"
import { Crumbs, Fact, Mono, Notice, Word } from "./ui"

const Query = lazy(() => import("./Query"))

const size = (bytes: number) =>
  bytes < 1 << 20 ? `${Math.ceil(bytes / 1024)} KB` : `${(bytes / (1 << 20)).toFixed(1)} MB`

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
      <FindText name={name} />
      <Tables name={name} tables={d.tables} />
      <Suspense fallback={<div className="h-32 animate-pulse bg-wash" aria-busy />}>
        <Query name={name} />
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

function Tables({ name, tables }: { name: string; tables: DatabaseData["tables"] }) {
  const [chosen, setChosen] = useState<string[]>([])
  if (tables.length === 0) return <p className="py-6 text-soft">It has no tables yet.</p>
  return (
    <div className="mt-5 overflow-x-auto">
      <p className="mb-2 flex flex-wrap items-baseline gap-x-5">
        <Export name={name} tables={chosen} />
        <Word onClick={bring}>put a dump in its place…</Word>
      </p>
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
                <input
                  type="checkbox"
                  aria-label={`Choose ${t.name}`}
                  checked={chosen.includes(t.name)}
                  onChange={(e) =>
                    setChosen(
                      e.target.checked ? [...chosen, t.name] : chosen.filter((name) => name !== t.name),
                    )
                  }
                  className="mr-2 accent-(--accent)"
                />
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
