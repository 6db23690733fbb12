// A table of a site's database: its rows by their key, filtered and sorted, each of which unfolds to be edited; and how it is made up.
import { useQuery } from "@tanstack/react-query"
import { useCallback, useEffect, useRef, useState } from "react"
import { Link, useSearch } from "wouter"
import {
  answer,
  api,
  of,
  told,
  type AskRows,
  type DatabaseValue,
  type Filter,
  type TableStructure,
} from "./api"
import { RowEditor, keyOf } from "./DatabaseRow"
import { Records } from "./TableFiles"
import { Button, Crumbs, Mono, Notice, Word } from "./ui"

const together = 1000 // rows that stand on the page at once

export function TablePage({ name, table }: { name: string; table: string }) {
  const structure = useQuery({
    queryKey: ["table", name, table],
    queryFn: () => answer(api.GET("/api/v1/sites/{name}/database/tables/{table}", of({ name, table }))),
    retry: false,
  })
  if (structure.isError) return <Notice tone="fail">{structure.error.message}</Notice>
  if (!structure.data) return <div className="h-40 animate-pulse bg-wash" aria-busy />
  return <Filled name={name} structure={structure.data} />
}

// useRows are the rows that were asked for, as far as they were walked through.
function useRows(name: string, table: string, asked: AskRows) {
  const [rows, setRows] = useState<DatabaseValue[][]>([])
  const [next, setNext] = useState<string>()
  const [fault, setFault] = useState<string>()
  const [took, setTook] = useState<number>()
  const [loading, setLoading] = useState(true)
  const wanted = useRef(0)
  const key = JSON.stringify(asked)
  const load = useCallback(
    async (from?: string) => {
      const mine = ++wanted.current
      setLoading(true)
      setFault(undefined)
      try {
        const body = { ...(JSON.parse(key) as AskRows), ...(from && { from, at: undefined }) }
        const page = await answer(
          api.POST("/api/v1/sites/{name}/database/tables/{table}/rows/page", {
            ...of({ name, table }),
            body,
          }),
        )
        if (mine !== wanted.current) return
        const more = page.rows.map((row) => row ?? [])
        setRows((before) => (from && before.length < together ? [...before, ...more] : more))
        setNext(page.next)
        setTook(page.milliseconds)
      } catch (error) {
        if (mine !== wanted.current) return
        setFault(told(error))
        setNext(undefined)
      }
      setLoading(false)
    },
    [name, table, key],
  )
  useEffect(() => {
    void load()
  }, [load])
  return { rows, next, fault, took, loading, load }
}

function Filled({ name, structure }: { name: string; structure: TableStructure }) {
  const search = new URLSearchParams(useSearch())
  const first = search.get("column")
  const [asked, setAsked] = useState<AskRows>(
    first ? { filters: [{ column: first, op: "contains", value: search.get("text") ?? "" }] } : {},
  )
  const page = useRows(name, structure.name, asked)
  const [open, setOpen] = useState<number | "new">()
  const ask = (change: Partial<AskRows>) => {
    setOpen(undefined)
    setAsked({ ...asked, at: undefined, ...change })
  }
  const done = () => {
    setOpen(undefined)
    void page.load()
  }
  return (
    <>
      <Crumbs name={name} here={`database / ${structure.name}`} />
      <h1 className="mt-1 break-all font-mono text-[26px] font-medium leading-tight">{structure.name}</h1>
      <Filters structure={structure} filters={asked.filters ?? []} set={(filters) => ask({ filters })} />
      <p className="mb-2 mt-2 flex flex-wrap items-baseline gap-x-6 gap-y-1">
        <Link
          href={`/sites/${name}/database`}
          className="underline decoration-line-strong underline-offset-4"
        >
          all tables
        </Link>
        <Word onClick={() => setOpen("new")}>new row…</Word>
        <Records name={name} table={structure.name} added={() => void page.load()} />
        <label hidden={!!asked.filters?.length} className="flex items-center gap-2 text-[13px] text-soft">
          go to
          <input
            type="range"
            min={0}
            max={100}
            defaultValue={0}
            aria-label="Place in the table"
            className="accent-(--accent)"
            onPointerUp={(e) => ask({ at: Number(e.currentTarget.value) / 100 })}
            onKeyUp={(e) => ask({ at: Number(e.currentTarget.value) / 100 })}
          />
        </label>
        {page.took !== undefined && (
          <span className="text-[13px] text-soft">
            {page.rows.length === 1 ? "1 row" : `${page.rows.length} rows`} here, the last in {page.took} ms
          </span>
        )}
      </p>
      {page.fault && <Notice tone="fail">{page.fault}</Notice>}
      {open === "new" && (
        <RowEditor name={name} structure={structure} close={() => setOpen(undefined)} done={done} />
      )}
      <Grid
        name={name}
        structure={structure}
        page={page}
        asked={asked}
        open={open}
        setOpen={setOpen}
        sort={(column) => ask({ sort: column, descending: asked.sort === column && !asked.descending })}
        done={done}
      />
      <Structure structure={structure} />
    </>
  )
}

const ops: [Filter["op"], string][] = [
  ["contains", "contains"],
  ["is", "is"],
  ["is_not", "is not"],
  ["begins", "begins with"],
  ["above", "is above"],
  ["below", "is below"],
  ["null", "is NULL"],
  ["not_null", "is not NULL"],
]

// Filters are conditions that all hold.
function Filters({
  structure,
  filters,
  set,
}: {
  structure: TableStructure
  filters: Filter[]
  set: (filters: Filter[]) => void
}) {
  const [draft, setDraft] = useState<Filter>({ column: structure.columns[0].name, op: "contains", value: "" })
  const field = "border-b border-line-strong bg-transparent"
  return (
    <form
      className="mt-3 flex flex-wrap items-baseline gap-x-3 gap-y-2"
      onSubmit={(e) => {
        e.preventDefault()
        set([...filters, draft])
        setDraft({ ...draft, value: "" })
      }}
    >
      {filters.map((f, i) => (
        <span key={i} className="border border-line-strong px-2 text-[13px]">
          <Mono>{f.column}</Mono> {ops.find(([op]) => op === f.op)?.[1]} <Mono>{f.value}</Mono>{" "}
          <Word aria-label={`without ${f.column}`} onClick={() => set(filters.filter((_, n) => n !== i))}>
            ×
          </Word>
        </span>
      ))}
      <select
        aria-label="Column"
        value={draft.column}
        onChange={(e) => setDraft({ ...draft, column: e.target.value })}
        className={`max-w-48 font-mono text-[13px] ${field}`}
      >
        {structure.columns.map((c) => (
          <option key={c.name}>{c.name}</option>
        ))}
      </select>
      <select
        aria-label="Condition"
        value={draft.op}
        onChange={(e) => setDraft({ ...draft, op: e.target.value as Filter["op"] })}
        className={field}
      >
        {ops.map(([op, words]) => (
          <option key={op} value={op}>
            {words}
          </option>
        ))}
      </select>
      {!draft.op.endsWith("null") && (
        <input
          aria-label="Value"
          value={draft.value}
          onChange={(e) => setDraft({ ...draft, value: e.target.value })}
          className={`w-48 ${field}`}
        />
      )}
      <Button type="submit">Filter</Button>
    </form>
  )
}

// Grid walks on as it is scrolled to its end.
function Grid({
  name,
  structure,
  page,
  asked,
  open,
  setOpen,
  sort,
  done,
}: {
  name: string
  structure: TableStructure
  page: ReturnType<typeof useRows>
  asked: AskRows
  open?: number | "new"
  setOpen: (row?: number) => void
  sort: (column: string) => void
  done: () => void
}) {
  const { rows, next, loading, load } = page
  const walk = (e: React.UIEvent<HTMLDivElement>) => {
    const at = e.currentTarget
    if (
      next &&
      !loading &&
      rows.length < together &&
      at.scrollTop + at.clientHeight > at.scrollHeight - 300
    ) {
      void load(next)
    }
  }
  return (
    <section
      aria-label="Rows"
      // eslint-disable-next-line jsx-a11y/no-noninteractive-tabindex -- it scrolls
      tabIndex={0}
      className="max-h-[65vh] overflow-auto border-y border-line-strong"
      onScroll={walk}
    >
      <table className="w-full border-collapse text-[13px]">
        <thead>
          <tr className="text-left">
            {structure.columns.map((c) => (
              <th key={c.name} className="sticky top-0 z-10 bg-paper py-1 pr-5 font-normal">
                <Word onClick={() => sort(c.name)} title={c.type} className="font-mono">
                  {c.name}
                  {asked.sort === c.name && (asked.descending ? " ↓" : " ↑")}
                </Word>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map((row, i) => (
            <Row
              key={i}
              row={row}
              structure={structure}
              open={open === i}
              unfold={() => setOpen(open === i ? undefined : i)}
            >
              <RowEditor name={name} structure={structure} row={row} close={() => setOpen()} done={done} />
            </Row>
          ))}
        </tbody>
      </table>
      {!loading && rows.length === 0 && <p className="py-4 text-soft">No row is like that.</p>}
      {next && rows.length >= together && (
        <p className="py-2">
          <Word onClick={() => void load(next)}>go on from here</Word>
        </p>
      )}
    </section>
  )
}

// Row unfolds where its key tells it from all others.
function Row({
  row,
  structure,
  open,
  unfold,
  children,
}: {
  row: DatabaseValue[]
  structure: TableStructure
  open: boolean
  unfold: () => void
  children: React.ReactNode
}) {
  const key = keyOf(structure, row)
  return (
    <>
      <tr className={`border-t border-line align-top ${open ? "bg-wash" : ""}`}>
        {row.map((v, i) => (
          <td key={i} className="max-w-80 truncate py-0.5 pr-5 font-mono">
            {i === 0 && key ? (
              <Word aria-expanded={open} onClick={unfold}>
                <Value value={v} binary={structure.columns[i].binary} />
              </Word>
            ) : (
              <Value value={v} binary={structure.columns[i].binary} />
            )}
          </td>
        ))}
      </tr>
      {open && (
        <tr>
          <td colSpan={row.length} className="bg-wash p-0">
            {children}
          </td>
        </tr>
      )}
    </>
  )
}

// Value is one as it stands in a row.
function Value({ value: v, binary }: { value: DatabaseValue; binary: boolean }) {
  if (v.null) return <i className="text-faint">NULL</i>
  const rest = v.length ? `… (${v.length})` : ""
  if (binary) return <span className="text-soft">{`${hex(v.text ?? "")}${rest}`}</span>
  return <>{v.text ? v.text + rest : <span className="text-faint">empty</span>}</>
}

// hex are bytes in hexadecimal digits, as SQL writes them.
const hex = (base64: string) =>
  "0x" +
  Array.from(atob(base64), (c) => c.charCodeAt(0).toString(16).padStart(2, "0"))
    .join("")
    .slice(0, 48)

function Structure({ structure }: { structure: TableStructure }) {
  return (
    <details className="mt-6">
      <summary className="cursor-pointer text-[15px] font-semibold">How it is made up</summary>
      <dl className="mt-2 grid grid-cols-[minmax(0,14rem)_minmax(0,1fr)] gap-x-4 text-[13px]">
        {structure.columns.map((c) => (
          <div key={c.name} className="contents">
            <dt className="break-all border-t border-line py-0.5 font-mono">{c.name}</dt>
            <dd className="border-t border-line py-0.5">
              <Mono>{c.type}</Mono>{" "}
              <span className="text-soft">
                {[
                  c.null ? "may be NULL" : "never NULL",
                  c.default && `as usual ${c.default}`,
                  c.extra,
                  c.collation,
                ]
                  .filter(Boolean)
                  .join(", ")}
              </span>
            </dd>
          </div>
        ))}
        {structure.indexes.map((x) => (
          <div key={x.name} className="contents">
            <dt className="break-all border-t border-line py-0.5 font-mono text-soft">{x.name}</dt>
            <dd className="border-t border-line py-0.5 text-soft">
              {x.unique ? "unique index of " : "index of "}
              <Mono>{x.columns.join(", ")}</Mono>
            </dd>
          </div>
        ))}
      </dl>
    </details>
  )
}
