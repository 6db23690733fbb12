// The report strip: every site carries its report as a row of cells, one a check.
import { useChecks, type Check, type Result, type SiteReport } from "./api"

export type Shown = Result["verdict"] | "none" | "active"

// verdictOf is what a cell shows: while a report grows, the first check without a result is the one being asked.
export function verdictOf(
  checks: Check[],
  id: string,
  report: SiteReport | undefined,
  growing: boolean,
): Shown {
  const result = report?.checks.find((c) => c.id === id)
  if (result) return result.verdict
  if (!growing) return "none"
  const next = checks.find((each) => !report?.checks.some((c) => c.id === each.id))
  return next?.id === id ? "active" : "none"
}

export function summary(report: SiteReport | undefined): string {
  if (!report || report.checks.length === 0) return "not checked yet"
  const failed = report.checks.filter((c) => c.verdict === "fail").map((c) => c.title.toLowerCase())
  if (failed.length) return "failed: " + failed.join(", ")
  const passed = report.checks.filter((c) => c.verdict === "pass").length
  return passed === 0 ? "not checked" : `${passed} of ${report.checks.length} passed`
}

const words: Record<Shown, string> = {
  pass: "passed",
  fail: "failed",
  skip: "skipped",
  none: "not asked yet",
  active: "being asked",
}

export function Strip({ report, growing = false }: { report?: SiteReport; growing?: boolean }) {
  const checks = useChecks()
  return (
    <span
      className="inline-flex gap-[3px] py-1 align-middle"
      role="img"
      aria-label={`Report: ${summary(report)}`}
    >
      {checks.map(({ id, title }) => {
        const verdict = verdictOf(checks, id, report, growing)
        const result = report?.checks.find((c) => c.id === id)
        return (
          <span
            key={id}
            className="cell h-[18px] w-[11px]"
            data-verdict={verdict}
            data-check={id}
            title={`${title} ${words[verdict]}${result ? ": " + result.observed : ""}`}
          />
        )
      })}
    </span>
  )
}
