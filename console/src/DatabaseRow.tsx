// One row of a table, whole: each value edited as what it is, or as the tree that it holds, and kept if nobody changed it meanwhile.
import { useQuery } from "@tanstack/react-query"
import { useState } from "react"
import { answer, api, of, told, type DatabaseValue, type RowValue, type TableStructure } from "./api"
import { changed, formOf, type Form, type Tree } from "./tree"
import { Button, Mono, Notice, Word } from "./ui"

const valueOf = (v: DatabaseValue): string | null => (v.null ? null : (v.text ?? ""))

// keyOf is what tells a row from all others; undefined where nothing does.
export function keyOf(structure: TableStructure, row: DatabaseValue[]): RowValue[] | undefined {
  if (structure.key.length === 0) return undefined
  return structure.key.map((column) => ({
    column,
    value: valueOf(row[structure.columns.findIndex((c) => c.name === column)]),
  }))
}

interface Props {
  name: string
  structure: TableStructure
  close: () => void
  done: () => void
}

// RowEditor edits a row, or, without one, makes a new one.
export function RowEditor({ row, ...props }: Props & { row?: DatabaseValue[] }) {
  const { name, structure } = props
  const key = row && keyOf(structure, row)
  const whole = useQuery({
    queryKey: ["row", name, structure.name, key],
    queryFn: () =>
      answer(
        api.POST("/api/v1/sites/{name}/database/tables/{table}/rows/read", {
          ...of({ name, table: structure.name }),
          body: { key: key ?? [] },
        }),
      ),
    enabled: !!key,
    staleTime: 0,
    gcTime: 0,
    retry: false,
  })
  if (!key) return <Fields {...props} />
  if (whole.isError) return <Notice tone="fail">{whole.error.message}</Notice>
  if (!whole.data) return <div className="h-16 animate-pulse bg-wash" aria-busy />
  return <Fields {...props} rowKey={key} was={whole.data.map(valueOf)} />
}

// useChange is what is to be different in a row, and keeps it or removes the row.
function useChange({
  name,
  structure,
  done,
  rowKey,
  was,
}: {
  name: string
  structure: TableStructure
  done: () => void
  rowKey?: RowValue[]
  was?: (string | null)[]
}) {
  const [now, setNow] = useState<Record<string, string | null>>({})
  const [fault, setFault] = useState<string>()
  const at = of({ name, table: structure.name })
  const attempt = async (work: Promise<unknown>) => {
    setFault(undefined)
    try {
      await work
      done()
    } catch (error) {
      setFault(told(error))
    }
  }
  const set = Object.entries(now).map(([column, value]): RowValue => ({ column, value }))
  const before = set.map(({ column }): RowValue => {
    const i = structure.columns.findIndex((c) => c.name === column)
    return { column, value: was?.[i] ?? null }
  })
  const path = "/api/v1/sites/{name}/database/tables/{table}/rows"
  const save = () =>
    attempt(
      rowKey
        ? answer(api.PATCH(path, { ...at, body: { key: rowKey, was: before, set } }))
        : answer(api.POST(path, { ...at, body: { set } })),
    )
  const drop = () => attempt(answer(api.POST(`${path}/drop`, { ...at, body: { key: rowKey ?? [] } })))
  return {
    now,
    fault,
    save,
    drop,
    edit: (column: string, value: string | null) => setNow({ ...now, [column]: value }),
  }
}

function Fields(props: Props & { rowKey?: RowValue[]; was?: (string | null)[] }) {
  const { structure, close, rowKey, was } = props
  const { now, fault, save, drop, edit } = useChange(props)
  const [sure, setSure] = useState(false)
  return (
    <form
      aria-label={rowKey ? "Row" : "New row"}
      className="max-w-4xl p-3"
      onSubmit={(e) => {
        e.preventDefault()
        void save()
      }}
    >
      {structure.columns.map((c, i) => (
        <Field
          key={c.name}
          column={c}
          value={c.name in now ? now[c.name] : was ? was[i] : undefined}
          touched={c.name in now}
          set={(value) => edit(c.name, value)}
        />
      ))}
      {fault && <Notice tone="fail">{fault}</Notice>}
      <p className="mt-2 flex flex-wrap items-baseline gap-x-5 gap-y-2">
        <Button type="submit" tone="strong" disabled={!!rowKey && Object.keys(now).length === 0}>
          {rowKey ? "Save the row" : "Add the row"}
        </Button>
        <Word type="button" onClick={close}>
          leave it
        </Word>
        <span className="grow" />
        {rowKey &&
          (sure ? (
            <Word type="button" className="text-fail" onClick={() => void drop()}>
              really delete it
            </Word>
          ) : (
            <Word type="button" onClick={() => setSure(true)}>
              delete the row…
            </Word>
          ))}
      </p>
    </form>
  )
}

// Field is one column of a row. What is not touched in a new row is as the table has it.
function Field({
  column: c,
  value,
  touched,
  set,
}: {
  column: TableStructure["columns"][number]
  value?: string | null
  touched: boolean
  set: (value: string | null) => void
}) {
  const [plain, setPlain] = useState(false)
  const form = value && !c.binary && !plain ? formOf(value) : undefined
  const id = `field-${c.name}`
  const lines = Math.min(
    12,
    Math.max(1, (value ?? "").split("\n").length, Math.ceil((value ?? "").length / 90)),
  )
  return (
    <div className="grid grid-cols-1 gap-x-4 border-t border-line py-1 md:grid-cols-[14rem_minmax(0,1fr)]">
      <span className="min-w-0">
        <label htmlFor={id} className="break-all font-mono text-[13px]">
          {c.name}
        </label>
        <span className="block text-[12px] text-soft">
          {c.type}
          {c.binary && ", as base64"}
        </span>
        {form && <Word onClick={() => setPlain(true)}>{form.name}, as text</Word>}
        {plain && <Word onClick={() => setPlain(false)}>unfold it</Word>}
      </span>
      <span className="min-w-0">
        {form ? (
          <Unfolded form={form} set={set} />
        ) : (
          <textarea
            id={id}
            rows={lines}
            value={value ?? ""}
            disabled={c.generated}
            spellCheck={false}
            placeholder={value === null ? "NULL" : value === undefined ? "as the table has it" : ""}
            onChange={(e) => set(e.target.value)}
            className={`w-full border border-line bg-sheet px-2 py-0.5 font-mono text-[13px] placeholder:text-faint ${touched ? "border-accent" : ""}`}
          />
        )}
        {c.null && value !== null && (
          <Word type="button" className="text-[13px]" onClick={() => set(null)}>
            make it NULL
          </Word>
        )}
      </span>
    </div>
  )
}

// Unfolded is a value as a tree.
function Unfolded({ form, set }: { form: Form; set: (value: string) => void }) {
  return (
    <Branch
      tree={form.tree}
      edit={(path, value) => set(form.write(changed(form.tree, path, value)))}
      path={[]}
    />
  )
}

function Branch({
  tree,
  path,
  edit,
}: {
  tree: Tree
  path: number[]
  edit: (path: number[], value: Tree) => void
}) {
  if (tree.kind !== "branch") return <Leaf tree={tree} set={(value) => edit(path, value)} />
  return (
    <ul className={path.length ? "border-l border-line-strong pl-3" : ""}>
      {tree.items.length === 0 && <li className="text-faint">empty</li>}
      {tree.items.map(([key, value], i) => (
        <li key={i} className={value.kind === "branch" ? "" : "flex items-baseline gap-2"}>
          <Mono className="shrink-0 text-soft">{"value" in key ? String(key.value) : ""}</Mono>
          <Branch tree={value} path={[...path, i]} edit={edit} />
        </li>
      ))}
    </ul>
  )
}

function Leaf({ tree, set }: { tree: Exclude<Tree, { kind: "branch" }>; set: (tree: Tree) => void }) {
  if (tree.kind === "null") return <i className="text-faint">NULL</i>
  if (tree.kind === "fixed") return <Mono className="text-faint">{tree.value}</Mono>
  if (tree.kind === "boolean") {
    return (
      <input
        type="checkbox"
        aria-label="whether it holds"
        checked={tree.value}
        onChange={(e) => set({ ...tree, value: e.target.checked })}
        className="accent-(--accent)"
      />
    )
  }
  const number = (text: string) => /^-?\d+(\.\d+)?([eE][+-]?\d+)?$/.test(text)
  return (
    <input
      aria-label="Value"
      defaultValue={tree.value}
      onBlur={(e) => {
        const value = e.target.value
        if (value !== tree.value && (tree.kind === "text" || number(value))) set({ ...tree, value })
        else e.target.value = tree.value
      }}
      className="min-w-0 grow border-b border-line bg-transparent font-mono text-[13px]"
    />
  )
}
