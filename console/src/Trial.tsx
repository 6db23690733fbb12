// A trial: one site on many stacks, on temporary copies. The grid fills in live; each cell opens its report.
import { useEffect, useState } from "react"
import { useLocation } from "wouter"
import {
  trialOf,
  answer,
  api,
  of,
  queries,
  told,
  useEngines,
  useOperations,
  useSites,
  type Cell,
  type Site,
  type Trial,
  type Watched,
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
  const trials = (useOperations().data ?? []).filter((o) => o.kind === "trial" && trialOf(o)?.site === name)
  const [shown, setShown] = useState<string>()
  const current = shown ?? trials[0]?.id
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
      <Choice name={name} site={site} begun={setShown} />
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

// useChoice is which engines are to be tried: every PHP, and otherwise what the site is on, until others are chosen.
function useChoice(site: Site | undefined) {
  const engines = useEngines().data?.engines ?? []
  const [picked, setPicked] = useState<Record<string, string[]>>({})
  const own: Record<string, string | undefined> = {
    php: site?.stack.php.engine,
    web: site?.stack.web.engine,
    database: site?.stack.database.engine,
  }
  const all = (kind: string) =>
    engines
      .filter((e) => e.kind === kind)
      .map((e) => e.id)
      .sort(byVersion)
  const chosen = (kind: string) =>
    picked[kind] ?? (kind === "php" ? all(kind) : [own[kind]].filter((id) => id !== undefined))
  return {
    own,
    all,
    chosen,
    choose: (kind: string, ids: string[]) => setPicked({ ...picked, [kind]: ids }),
    count: kinds.reduce((product, [kind]) => product * chosen(kind).length, 1),
  }
}

// Choice is the form of a trial.
function Choice({ name, site, begun }: { name: string; site?: Site; begun: (id: string) => void }) {
  const choice = useChoice(site)
  const { chosen, count } = choice
  const [visit, setVisit] = useState("")
  const [walk, setWalk] = useState(false)
  const [fault, setFault] = useState<string>()
  const go = async () => {
    setFault(undefined)
    try {
      const made = await answer(
        api.POST("/api/v1/sites/{name}/trial", {
          ...of({ name }),
          body: {
            php: chosen("php").join(","),
            web: chosen("web").join(","),
            database: chosen("database").join(","),
            visit: visit.split(/\s+/).filter(Boolean),
            walk,
          },
        }),
      )
      begun(made.id)
      await queries.invalidateQueries()
    } catch (error) {
      setFault(told(error))
    }
  }
  return (
    <>
      <div className="mt-4 grid md:grid-cols-[repeat(3,auto)_1fr] items-start gap-x-10 border-y border-line-strong bg-sheet px-5 py-3">
        {kinds.map(([kind, label]) => (
          <EnginesOf key={kind} kind={kind} label={label} choice={choice} />
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
          <label className="flex items-center gap-2 text-[13px] text-soft">
            <input
              type="checkbox"
              className="accent-(--accent)"
              checked={walk}
              onChange={(e) => setWalk(e.target.checked)}
            />{" "}
            walk through all pages of each
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
    </>
  )
}

// EnginesOf are those of one kind that can be tried.
function EnginesOf({
  kind,
  label,
  choice: { own, all, chosen, choose },
}: {
  kind: string
  label: string
  choice: ReturnType<typeof useChoice>
}) {
  return (
    <fieldset>
      <legend className="mb-1 text-[13px] text-soft">
        {label}{" "}
        <Word className="ml-2" onClick={() => choose(kind, all(kind))}>
          all
        </Word>
      </legend>
      {all(kind).map((id) => (
        <label key={id} className="flex items-center gap-2 font-mono text-[13px]">
          <input
            type="checkbox"
            className="accent-(--accent)"
            checked={chosen(kind).includes(id)}
            onChange={() =>
              choose(
                kind,
                chosen(kind).includes(id) ? chosen(kind).filter((e) => e !== id) : [...chosen(kind), id],
              )
            }
          />{" "}
          {id}
          {id === own[kind] && <span className="text-soft"> (now)</span>}
        </label>
      ))}
    </fieldset>
  )
}

const said = (c: Cell) => c.messages.reduce((sum, m) => sum + m.count, 0)

function Grid({ id }: { id: string }) {
  const watched = useOperation(id)
  const [open, setOpen] = useState<string>()
  const [, go] = useLocation()
  useEffect(() => setOpen(undefined), [id])
  const trial: Trial | undefined = trialOf(watched)
  if (!watched || !trial) return <div className="mt-6 h-40 animate-pulse bg-wash" aria-busy />
  const failing = trial.cells.find((c) => c.verdict === "fail")
  const cell = trial.cells.find((c) => c.copy === (open ?? failing?.copy)) ?? trial.cells[0]
  const unknown = trial.cells.find((c) => c.supported)
  return (
    <>
      <Standing watched={watched} trial={trial} />
      {axis(trial, (c) => c.stack.database).map((database) => (
        <OnDatabase
          key={database}
          database={database}
          trial={trial}
          watched={watched}
          current={cell}
          open={setOpen}
        />
      ))}
      {unknown && (
        <p className="mt-2 text-[13px] text-soft">* not among what is known: {unknown.supported}</p>
      )}
      {cell && <CellReport cell={cell} operation={id} site={trial.site} pictures={trial.picture} />}
      {trial.keep_copies && watched.state !== "running" && (
        <p className="mt-4">
          <Word onClick={() => go("/")}>The copies were kept as sites</Word>
        </p>
      )}
    </>
  )
}

const axis = (trial: Trial, of: (c: Cell) => string) => [...new Set(trial.cells.map(of))].sort(byVersion)

// Standing is how far a trial has got, or what came of it.
function Standing({ watched, trial }: { watched: Watched; trial: Trial }) {
  const count = (which: (c: Cell) => unknown) => trial.cells.filter(which).length
  if (watched.state === "running")
    return (
      <p className="mt-5 flex gap-5" aria-live="polite">
        <b className="font-semibold text-accent">
          {count((c) => c.report || c.verdict === "fail")} of {trial.cells.length} tried
        </b>
        <Word
          onClick={() =>
            answer(api.POST("/api/v1/operations/{id}/cancel", of({ id: watched.id }))).then(() =>
              queries.invalidateQueries(),
            )
          }
        >
          cancel
        </Word>
      </p>
    )
  const took = (Date.parse(watched.finished_at ?? "") - Date.parse(watched.created_at)) / 1000
  return (
    <p className="mt-5 flex gap-5" aria-live="polite">
      <b className="font-semibold">
        {count((c) => c.verdict === "pass")} of {trial.cells.length} passed
      </b>
      <span className="text-soft">{took.toFixed(1)} s for all</span>
    </p>
  )
}

// OnDatabase is the grid on one database server: web servers down, PHP versions across.
function OnDatabase({
  database,
  trial,
  watched,
  current,
  open,
}: {
  database: string
  trial: Trial
  watched: Watched
  current?: Cell
  open: (copy: string) => void
}) {
  const phps = axis(trial, (c) => c.stack.php)
  return (
    <table className="mt-3 w-full border-collapse" aria-label={`On ${database}`}>
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
        {axis(trial, (c) => c.stack.web).map((web) => (
          <tr key={web} className="border-b border-line">
            <th className="py-1 text-left font-mono text-[13px] font-normal">{web}</th>
            {phps.map((php) => {
              const c = trial.cells.find(
                ({ stack }) => stack.php === php && stack.web === web && stack.database === database,
              )
              return (
                <td key={php} className="p-1">
                  {c && (
                    <GridCell
                      cell={c}
                      doing={watched.activity[c.copy]?.text}
                      current={c === current}
                      onOpen={() => open(c.copy)}
                    />
                  )}
                </td>
              )
            })}
          </tr>
        ))}
      </tbody>
    </table>
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
      className="mt-6 grid md:grid-cols-[minmax(0,1fr)_minmax(0,1.2fr)] border border-line-strong bg-sheet"
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
        {c.walked && <Pages walked={c.walked} />}
      </div>
      <Said cell={c} />
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

// Pages is what a walk through all pages of a copy found to be worse than on the site itself.
function Pages({ walked }: { walked: NonNullable<Cell["walked"]> }) {
  return (
    <div className="mt-4 text-[13px]">
      <p>
        {walked.pages} pages walked, {walked.worse.length === 0 ? "none of them worse" : "worse are:"}
      </p>
      <ul>
        {walked.worse.map((d, i) => (
          <li key={i} className="break-words border-t border-line py-1">
            <span className="font-mono">{d.path}</span> {d.text}
          </li>
        ))}
      </ul>
    </div>
  )
}

// Said is what PHP said while a cell's pages were asked.
function Said({ cell: c }: { cell: Cell }) {
  return (
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
