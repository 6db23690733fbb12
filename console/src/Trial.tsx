// A trial: one site on many stacks, on temporary copies. The grid fills in live; each cell opens its report.
import { useEffect, useState } from "react"
import { useLocation } from "wouter"
import {
  trialOf,
  call,
  queries,
  Refusal,
  useEngines,
  useOperations,
  useSites,
  type Cell,
  type Operation,
  type Trial,
  useImage,
} from "./api"
import { useOperation } from "./live"
import { Strip } from "./Strip"
import { Button, Crumbs, Mono, Notice, Word } from "./ui"

const kinds = [
  ["php", "PHP"],
  ["web", "Web servers"],
  ["database", "Database servers"],
] as const

const byVersion = (a: string, b: string) => a.localeCompare(b, "en", { numeric: true })

export function TrialPage({ name }: { name: string }) {
  const site = useSites().data?.find((s) => s.name === name)
  const engines = useEngines().data?.engines ?? []
  const trials = (useOperations().data ?? []).filter((o) => o.kind === "trial" && trialOf(o)?.site === name)
  const [chosen, setChosen] = useState<Record<string, string[]>>({})
  const [visit, setVisit] = useState("")
  const [fault, setFault] = useState<string>()
  const [shown, setShown] = useState<string>()
  const current = shown ?? trials[0]?.id
  const own: Record<string, string | undefined> = {
    php: site?.stack.php.engine,
    web: site?.stack.web.engine,
    database: site?.stack.database.engine,
  }
  const of = (kind: string) =>
    chosen[kind] ??
    (kind === "php"
      ? engines.filter((e) => e.kind === "php").map((e) => e.id)
      : [own[kind]].filter((id) => id !== undefined))
  const count = kinds.reduce((product, [kind]) => product * of(kind).length, 1)
  const toggle = (kind: string, id: string) =>
    setChosen({
      ...chosen,
      [kind]: of(kind).includes(id) ? of(kind).filter((e) => e !== id) : [...of(kind), id],
    })
  const go = async () => {
    setFault(undefined)
    try {
      const made = await call<Operation>("POST", `/sites/${name}/trial`, {
        php: of("php").join(","),
        web: of("web").join(","),
        database: of("database").join(","),
        visit: visit.split(/\s+/).filter(Boolean),
      })
      setShown(made.id)
      await queries.invalidateQueries()
    } catch (error) {
      setFault(
        error instanceof Refusal
          ? [error.message, ...error.problems.map((p) => `${p.message}; ${p.remedy}`)].join("; ")
          : String(error),
      )
    }
  }
  return (
    <>
      <Crumbs name={name} here="trial" />
      <h1 className="mt-1 text-[34px] font-bold leading-tight tracking-tight">
        {site?.title ?? name} on other stacks
      </h1>
      <p className="mt-1 max-w-3xl text-soft">
        Every combination gets a temporary copy of the site, which is verified, asked for its pages and
        compared by picture. Nothing is kept, and the site itself is not touched.
      </p>
      <div className="mt-4 grid grid-cols-[repeat(3,auto)_1fr] items-start gap-x-10 border-y border-line-strong bg-sheet px-5 py-3">
        {kinds.map(([kind, label]) => (
          <fieldset key={kind}>
            <legend className="mb-1 text-[13px] text-soft">
              {label}{" "}
              <Word
                className="ml-2"
                onClick={() =>
                  setChosen({ ...chosen, [kind]: engines.filter((e) => e.kind === kind).map((e) => e.id) })
                }
              >
                all
              </Word>
            </legend>
            {engines
              .filter((e) => e.kind === kind)
              .map((e) => e.id)
              .sort(byVersion)
              .map((id) => (
                <label key={id} className="flex items-center gap-2 font-mono text-[13px]">
                  <input
                    type="checkbox"
                    className="accent-(--accent)"
                    checked={of(kind).includes(id)}
                    onChange={() => toggle(kind, id)}
                  />{" "}
                  {id}
                  {id === own[kind] && <span className="text-soft"> (now)</span>}
                </label>
              ))}
          </fieldset>
        ))}
        <div className="flex min-w-52 flex-col gap-3">
          <label className="text-[13px] text-soft">
            Further pages to ask
            <input
              value={visit}
              onChange={(e) => setVisit(e.target.value)}
              placeholder="/shop/ /about/"
              className="mt-1 w-full border-b border-line-strong bg-transparent py-1 font-mono text-[13px] text-ink placeholder:text-faint"
            />
          </label>
          <div>
            <Button
              tone="strong"
              disabled={count === 0 || count > 60 || site?.state !== "running"}
              onClick={go}
            >
              Try {count} {count === 1 ? "stack" : "stacks"}
            </Button>
          </div>
          {site && site.state !== "running" && (
            <p className="text-[13px] text-soft">The site must run for it.</p>
          )}
        </div>
      </div>
      {fault && <Notice tone="fail">{fault}</Notice>}
      {current ? (
        <Grid id={current} />
      ) : (
        <p className="py-12 text-center text-soft">
          Nothing has been tried yet. Choose engines above: every combination becomes a cell.
        </p>
      )}
      {trials.length > 1 && (
        <p className="mt-8 text-[13px] text-soft">
          Earlier trials:{" "}
          {trials.map((o) => (
            <Word key={o.id} className="mr-3" aria-current={o.id === current} onClick={() => setShown(o.id)}>
              {new Date(o.created_at).toLocaleString("sv").slice(0, 16)}
            </Word>
          ))}
        </p>
      )}
    </>
  )
}

const said = (c: Cell) => c.messages.reduce((sum, m) => sum + m.count, 0)

function Grid({ id }: { id: string }) {
  const watched = useOperation(id)
  const [open, setOpen] = useState<string>()
  const [, go] = useLocation()
  useEffect(() => setOpen(undefined), [id])
  const trial: Trial | undefined = trialOf(watched)
  if (!trial) return <div className="mt-6 h-40 animate-pulse bg-wash" aria-busy />
  const axis = (of: (c: Cell) => string) => [...new Set(trial.cells.map(of))].sort(byVersion)
  const phps = axis((c) => c.stack.php)
  const failing = trial.cells.find((c) => c.verdict === "fail")
  const cell = trial.cells.find((c) => c.copy === (open ?? failing?.copy)) ?? trial.cells[0]
  const done = trial.cells.filter((c) => c.report || c.verdict === "fail").length
  return (
    <>
      <p className="mt-5 flex gap-5" aria-live="polite">
        <b className="font-semibold">
          {watched?.state === "running" ? (
            <span className="text-accent">
              {done} of {trial.cells.length} tried
            </span>
          ) : (
            `${trial.cells.filter((c) => c.verdict === "pass").length} of ${trial.cells.length} passed`
          )}
        </b>
        {watched?.state === "running" && (
          <Word
            onClick={() => call("POST", `/operations/${id}/cancel`).then(() => queries.invalidateQueries())}
          >
            cancel
          </Word>
        )}
        {watched?.state !== "running" && (
          <span className="text-soft">
            {(
              (Date.parse(watched?.finished_at ?? "") - Date.parse(watched?.created_at ?? "")) /
              1000
            ).toFixed(1)}{" "}
            s for all
          </span>
        )}
      </p>
      {axis((c) => c.stack.database).map((database) => (
        <table key={database} className="mt-3 w-full border-collapse" aria-label={`On ${database}`}>
          <thead>
            <tr className="border-b border-line-strong text-left text-[13px] text-soft">
              <th className="w-52 py-1 font-normal">{database}</th>
              {phps.map((php) => (
                <th key={php} className="py-1 pl-2 font-mono font-normal">
                  {php}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {axis((c) => c.stack.web).map((web) => (
              <tr key={web} className="border-b border-line">
                <th className="py-1 text-left font-mono text-[13px] font-normal">{web}</th>
                {phps.map((php) => {
                  const c = trial.cells.find(
                    (each) =>
                      each.stack.php === php && each.stack.web === web && each.stack.database === database,
                  )
                  return (
                    <td key={php} className="p-1">
                      {c && (
                        <GridCell
                          cell={c}
                          doing={watched?.activity?.[c.copy]?.text}
                          current={c === cell}
                          onOpen={() => setOpen(c.copy)}
                        />
                      )}
                    </td>
                  )
                })}
              </tr>
            ))}
          </tbody>
        </table>
      ))}
      {trial.cells.some((c) => c.supported) && (
        <p className="mt-2 text-[13px] text-soft">
          * not among what is known: {trial.cells.find((c) => c.supported)?.supported}
        </p>
      )}
      {cell && <CellReport cell={cell} operation={id} site={trial.site} pictures={trial.picture} />}
      {trial.keep && watched?.state !== "running" && (
        <p className="mt-4">
          <Word onClick={() => go("/")}>The copies were kept as sites</Word>
        </p>
      )}
    </>
  )
}

function GridCell({
  cell: c,
  doing,
  current,
  onOpen,
}: {
  cell: Cell
  doing?: string
  current: boolean
  onOpen: () => void
}) {
  const waiting = !c.report && c.verdict === "skip"
  return (
    <button
      type="button"
      data-copy={c.copy}
      data-verdict={c.verdict}
      aria-pressed={current}
      onClick={onOpen}
      className={`block w-full border-l-4 px-2 py-1 text-left hover:bg-sheet ${current ? "bg-wash" : ""} ${c.verdict === "fail" ? "border-fail" : c.verdict === "pass" ? "border-pass" : "border-line"}`}
    >
      {waiting ? (
        <span className={doing ? "text-accent" : "text-soft"}>{doing ?? c.summary}</span>
      ) : (
        <>
          <span className={`font-semibold ${c.verdict === "fail" ? "text-fail" : ""}`}>
            {c.verdict === "fail" ? "failed" : "passed"}
            {c.supported && "*"}
          </span>{" "}
          <Mono className="text-soft">{c.milliseconds} ms</Mono>
          <span className="block text-[13px] text-soft">
            {said(c) ? `PHP said ${said(c)} things` : "PHP said nothing"}
            {c.different !== null &&
              `, looks ${c.different < 0.0005 ? "the same" : `${(c.different * 100).toFixed(1)}% different`}`}
          </span>
        </>
      )}
    </button>
  )
}

function CellReport({
  cell: c,
  operation,
  site,
  pictures,
}: {
  cell: Cell
  operation: string
  site: string
  pictures: boolean
}) {
  return (
    <section
      aria-label="Report of the cell"
      className="mt-6 grid grid-cols-[minmax(0,1fr)_minmax(0,1.2fr)] border border-line-strong bg-sheet"
    >
      <div className="border-r border-line p-5">
        <h2 className="text-xl font-semibold">
          {c.stack.php}, {c.stack.web}, {c.stack.database}
        </h2>
        <p className="mt-1 text-soft">
          {c.summary}
          {c.took_milliseconds > 0 && `, tried in ${(c.took_milliseconds / 1000).toFixed(1)} s`}
        </p>
        {c.report && (
          <p className="mt-2">
            <Strip report={c.report} />
          </p>
        )}
        {c.report?.checks
          .filter((r) => r.verdict === "fail")
          .map((r) => (
            <dl key={r.id} className="mt-3 border-l-4 border-fail pl-3 text-[14px]">
              <dt className="font-semibold">{r.title}</dt>
              <dd className="break-words font-mono text-[12.5px]">{r.observed}</dd>
              <dd className="text-soft">{r.remedy}</dd>
            </dl>
          ))}
        <table className="mt-4 w-full text-[13px]">
          <tbody>
            {c.visits.map((v) => (
              <tr key={v.path} className="border-t border-line">
                <td className="py-1 font-mono">{v.path}</td>
                <td className={v.status >= 400 || v.status === 0 ? "text-fail" : ""}>
                  {v.status || "no answer"}
                </td>
                <td>{v.milliseconds} ms</td>
                <td>{(v.bytes / 1024).toFixed(0)} KB</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
      <div className="min-w-0 p-5">
        <h2 className="text-xl font-semibold">What PHP said</h2>
        {c.messages.length === 0 && <p className="mt-1 text-soft">Nothing, while the pages were asked.</p>}
        <ul className="mt-2 max-h-96 space-y-2 overflow-auto">
          {c.messages.map((m, i) => (
            <li
              key={i}
              className={`border-l-4 pl-3 ${/error/i.test(m.level) ? "border-fail" : "border-line-strong"}`}
            >
              <b className="font-semibold">{m.level}</b> <span className="break-words">{m.text}</span>
              <Mono className="block break-all text-soft">
                {m.where}
                {m.count > 1 && `, ${m.count} times`}
              </Mono>
            </li>
          ))}
        </ul>
      </div>
      {pictures && c.different !== null && (
        <div className="col-span-2 grid grid-cols-2 gap-5 border-t border-line p-5">
          <Picture operation={operation} name={site} words="The site as it is" />
          <Picture
            operation={operation}
            name={c.copy}
            words={
              c.different < 0.0005
                ? "On this stack: the same"
                : `On this stack: ${(c.different * 100).toFixed(1)}% of the picture differs`
            }
          />
        </div>
      )}
    </section>
  )
}

function Picture({ operation, name, words }: { operation: string; name: string; words: string }) {
  const address = useImage(`/operations/${operation}/pictures/${name}`)
  return (
    <figure>
      <figcaption className="mb-1 text-[13px] text-soft">{words}</figcaption>
      {address === null && <p className="text-[13px] text-soft">The picture is no longer kept.</p>}
      {address && (
        <a href={address} target="_blank" rel="noreferrer">
          <img src={address} alt={`Front page of ${name}`} className="w-full border border-line" />
        </a>
      )}
    </figure>
  )
}
