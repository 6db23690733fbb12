// A site: its report strip, enlarged, is the page's spine. Each cell unfolds its evidence, the facts that it proves, and the actions
// that belong to them.
import { ToggleGroup } from "radix-ui"
import { useState } from "react"
import { Link, useLocation } from "wouter"
import {
  changeOf,
  pushOf,
  useChecks,
  useCMS,
  useOperations,
  useReports,
  useSites,
  type Check,
  type Result,
  type Site,
  type SiteReport,
} from "./api"
import { useLive, type Live } from "./live"
import { summary, verdictOf, type Shown } from "./Strip"
import { Mono, Notice, Retire, stateOf, useAsk, Word, Fact } from "./ui"
import { useTicket } from "./Ticket"
import { Facts, groupsOf } from "./Facts"
import { About } from "./About"
import { Elsewhere } from "./Elsewhere"

export function SitePage({ name }: { name: string }) {
  const sites = useSites()
  const checks = useChecks()
  const report = useReports().data?.get(name)
  const live = useLive().get(name)
  const [open, setOpen] = useState<string>()
  const s = sites.data?.find((each) => each.name === name)
  if (!s) {
    if (sites.isLoading) return <div className="h-40 animate-pulse bg-wash" aria-busy />
    return <Gone name={name} />
  }
  const verifying = live?.text === "verifying"
  const shown = verifying ? live.report : live?.kind === "new" || s.state === "stopped" ? undefined : report
  const firstFault = shown?.checks.find((c) => c.verdict === "fail")?.id
  const current = open ?? firstFault ?? "front-page"
  const asked = checks.find((c) => c.id === current)
  const running = s.state === "running" || s.state === "failed"
  return (
    <>
      <Head site={s} live={live} shown={shown} running={running} />
      <ToggleGroup.Root
        type="single"
        value={current}
        onValueChange={(value) => value && setOpen(value)}
        aria-label="Report, one cell a check"
        className="mt-6 grid gap-1.5 max-lg:grid-cols-1!"
        style={{ gridTemplateColumns: `repeat(${checks.length}, minmax(0, 1fr))` }}
      >
        {groupsOf(checks).map((g) => (
          <div key={g.title} className="contents">
            <div style={{ gridColumn: `span ${g.checks.length}` }} className="min-w-0 max-lg:col-span-1!">
              <div className="mb-1.5 border-b border-line-strong pb-1 text-[13px] font-semibold">
                {g.title}
              </div>
              <div
                className="grid gap-1.5"
                style={{ gridTemplateColumns: `repeat(${g.checks.length}, minmax(0, 1fr))` }}
              >
                {g.checks.map((c) => (
                  <Cell
                    key={c.id}
                    check={c}
                    verdict={verdictOf(checks, c.id, shown, verifying)}
                    result={shown?.checks.find((r) => r.id === c.id)}
                    current={current === c.id}
                  />
                ))}
              </div>
            </div>
          </div>
        ))}
      </ToggleGroup.Root>
      {asked && (
        <Evidence site={s} check={asked} result={shown?.checks.find((c) => c.id === current)} busy={!!live} />
      )}
      <Elsewhere name={name} />
      <Done name={name} />
    </>
  )
}

// Done is what was done with this site lately, with the steps of each.
function Done({ name }: { name: string }) {
  const operations = (useOperations().data ?? [])
    .filter(
      (o) => o.sites.some((part) => part.site === name) || changeOf(o)?.rename === name || pushOf(o) === name,
    )
    .slice(0, 6)
  if (operations.length === 0) return null
  return (
    <section className="mt-8">
      <h2 className="mb-1 text-[15px] font-semibold">What was done</h2>
      <ol>
        {operations.map((o) => {
          const part = o.sites.find((each) => each.site === name) ?? o.sites[0]
          return (
            <li
              key={o.id}
              className="grid lg:grid-cols-[11.5rem_5rem_5rem_1fr] items-baseline gap-x-4 border-t border-line py-1.5"
            >
              <Mono className="text-soft">{new Date(o.created_at).toLocaleString("sv")}</Mono>
              <span className="font-medium">{o.kind}</span>
              <span className={part.state === "failed" ? "text-fail" : "text-soft"}>{part.state}</span>
              <span className="min-w-0 break-words font-mono text-[12.5px] text-soft">
                {part.problem || part.steps.map((step) => `${step.title} ${step.milliseconds} ms`).join(", ")}
              </span>
            </li>
          )
        })}
      </ol>
    </section>
  )
}

// Gone says that there is no such site any more.
const Gone = ({ name }: { name: string }) => (
  <>
    <h1 className="text-2xl font-semibold">There is no site {name}</h1>
    <p className="mt-2">
      It may have been retired.{" "}
      <Link href="/" className="underline underline-offset-4">
        See the fleet
      </Link>
      .
    </p>
  </>
)

// Head is what the site is, what is being done with it, and what can be done.
function Head({
  site: s,
  live,
  shown,
  running,
}: {
  site: Site
  live?: Live
  shown?: SiteReport
  running: boolean
}) {
  const { send, fault } = useAsk()
  const [, go] = useLocation()
  const name = s.name
  return (
    <>
      <p className="text-[13px] text-soft">
        <Link href="/" className="underline decoration-line-strong underline-offset-4">
          Fleet
        </Link>{" "}
        / {s.name_unicode ?? s.name}
      </p>
      <h1 className="mt-1 text-[34px] font-bold leading-tight tracking-tight">{s.title}</h1>
      <p className="mt-1 flex flex-wrap items-baseline gap-x-5 gap-y-1" aria-live="polite">
        <span className={s.state === "failed" ? "font-semibold text-fail" : "font-semibold"}>
          {live ? <span className="text-accent">{live.text}</span> : stateOf(s)}
        </span>
        <span className="text-soft">{summary(shown)}</span>
        <span className="text-soft">made {new Date(s.created_at).toLocaleString("sv").slice(0, 16)}</span>
      </p>
      <p className="mt-1.5 flex flex-wrap items-baseline gap-x-4 gap-y-1">
        <At site={s} />
        {running ? (
          <Word disabled={!!live} onClick={() => send("stop", [name])}>
            stop it
          </Word>
        ) : (
          <Word disabled={!!live} onClick={() => send("start", [name])}>
            start it
          </Word>
        )}
        {s.state === "failed" && (
          <Word disabled={!!live} onClick={() => send("start", [name])}>
            start it again
          </Word>
        )}
        <Word disabled={!!live || !running} onClick={() => send("verify", [name])}>
          verify again
        </Word>
        <Retire
          sites={[s]}
          trigger={
            <Word disabled={!!live} className="text-fail">
              retire…
            </Word>
          }
          onRetire={(keep) => send("retire", [name], keep).then(() => go("/"))}
        />
      </p>
      <About key={s.group + s.note} site={s} />
      {fault && <Notice tone="fail">{fault}</Notice>}
      {s.reason && (
        <Notice tone="fail">
          <span className="font-mono text-[13px] break-words">{s.reason}</span>
        </Notice>
      )}
    </>
  )
}

// At is where one goes from a site's page most.
function At({ site: s }: { site: Site }) {
  const { signIn, fault } = useTicket(s)
  const cms = useCMS().data?.cms.find((k) => k.name === s.cms.name)
  const away = "underline decoration-line-strong underline-offset-4 hover:text-accent"
  return (
    <>
      {s.state === "running" && (
        <a href={s.url} target="_blank" rel="noreferrer" className={away}>
          open
        </a>
      )}
      {signIn && <Word onClick={() => void signIn()}>sign in</Word>}
      <Link href={`/mail?site=${s.name}`} className={away}>
        mail
      </Link>
      <Link href={`/sites/${s.name}/logs`} className={away}>
        logs
      </Link>
      <Link href={`/sites/${s.name}/errors`} className={away}>
        errors{s.php_errors > 0 && ` (${s.php_errors})`}
      </Link>
      <Link href={`/sites/${s.name}/walk`} className={away}>
        walk
      </Link>
      <Link href={`/sites/${s.name}/terminal`} className={away}>
        terminal
      </Link>
      <Link href={`/sites/${s.name}/database`} className={away}>
        database
      </Link>
      <Link href={`/sites/${s.name}/outgoing`} className={away}>
        outgoing
      </Link>
      <Link href={`/sites/${s.name}/guests`} className={away}>
        guests
      </Link>
      <Link href={`/sites/${s.name}/screens`} className={away}>
        screens
      </Link>
      <Link href={`/sites/${s.name}/settings`} className={away}>
        settings
      </Link>
      {cms?.lists_parts && (
        <Link href={`/sites/${s.name}/parts`} className={away}>
          plugins and themes
        </Link>
      )}
      <Link href={`/sites/${s.name}/restore`} className={away}>
        restore points
      </Link>
      {fault && (
        <span role="alert" className="text-[13px] text-fail">
          {fault}
        </span>
      )}
    </>
  )
}

function Cell({
  check,
  verdict,
  result,
  current,
}: {
  check: Check
  verdict: Shown
  result?: Result
  current: boolean
}) {
  return (
    <ToggleGroup.Item
      value={check.id}
      data-check={check.id}
      data-shown={verdict}
      className={`group flex h-full flex-col text-left ${current ? "" : "hover:text-accent"}`}
    >
      <span className="cell cell-large h-9 w-full" data-verdict={verdict} />
      <span
        className={`mt-1 grow border-l-2 pl-1.5 text-[13px] leading-tight ${current ? "border-accent font-semibold" : "border-transparent"}`}
      >
        {check.title}
        <span className="block font-mono text-[11.5px] font-normal text-soft">
          {result
            ? result.verdict === "skip"
              ? "skipped"
              : `${result.verdict} ${result.milliseconds} ms`
            : verdict === "active"
              ? "asking"
              : "not asked"}
        </span>
      </span>
    </ToggleGroup.Item>
  )
}

function Evidence({
  site: s,
  check,
  result,
  busy,
}: {
  site: Site
  check: Check
  result?: Result
  busy: boolean
}) {
  return (
    <section
      aria-live="polite"
      aria-label={check.title}
      className="mt-5 grid md:grid-cols-[minmax(0,1.15fr)_minmax(0,1fr)] border border-line-strong bg-sheet"
    >
      <div className="min-w-0 border-line p-5 max-md:border-b md:border-r">
        <h2 className="mb-3 text-xl font-semibold">{check.title}</h2>
        {result ? (
          <dl className="grid grid-cols-[5.5rem_1fr] gap-x-3 gap-y-2.5">
            <Fact name="verdict">
              {result.verdict === "fail" ? (
                <b className="text-fail">failed</b>
              ) : result.verdict === "pass" ? (
                "passed"
              ) : (
                "skipped"
              )}
            </Fact>
            <Fact name="expected">{result.expected || "–"}</Fact>
            <Fact name="observed">{result.observed}</Fact>
            {result.remedy && (
              <Fact name="remedy">
                <b className="font-semibold">{result.remedy}</b>
              </Fact>
            )}
            <Fact name="took">{result.milliseconds} ms</Fact>
          </dl>
        ) : (
          <p className="text-soft">
            {s.state === "stopped"
              ? "The site is stopped: start it, and it is asked."
              : "It has not been asked yet."}
          </p>
        )}
      </div>
      <div className="min-w-0 p-5">
        <h2 className="mb-3 text-xl font-semibold">{check.group}</h2>
        <Facts site={s} group={check.group} busy={busy} />
      </div>
    </section>
  )
}
