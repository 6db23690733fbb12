import { QueryClientProvider } from "@tanstack/react-query"
import { cleanup, render, screen } from "@testing-library/react"
import { afterEach, describe, expect, test } from "vitest"
import { queries, type Check, type Result, type SiteReport } from "./api"
import { groupsOf } from "./Facts"
import { Strip, summary, verdictOf } from "./Strip"

const checks: Check[] = [
  { id: "web-answers", title: "Own port answers", group: "Address" },
  { id: "front-page", title: "Front page", group: "Address" },
  { id: "sign-in", title: "Administrator signs in", group: "Administrator" },
]
const result = (id: string, verdict: Result["verdict"]): Result => ({
  id,
  verdict,
  title: checks.find((c) => c.id === id)?.title ?? id,
  expected: "200",
  observed: "it said 500",
  remedy: "",
  milliseconds: 12,
})
const report = (...results: Result[]): SiteReport => ({ site: "fern", passed: true, checks: results })

afterEach(cleanup)

describe("a cell of the strip", () => {
  test("shows what was found", () =>
    expect(verdictOf(checks, "sign-in", report(result("sign-in", "skip")), false)).toBe("skip"))
  test("is empty where nothing was asked", () =>
    expect(verdictOf(checks, "sign-in", undefined, false)).toBe("none"))
  test("is the one that is being asked while the report grows", () => {
    const growing = report(result("web-answers", "pass"))
    expect(checks.map((c) => verdictOf(checks, c.id, growing, true))).toEqual(["pass", "active", "none"])
  })
})

describe("a report in words", () => {
  test("is that nothing was asked yet", () => expect(summary(undefined)).toBe("not checked yet"))
  test("names what failed", () =>
    expect(summary(report(result("web-answers", "pass"), result("front-page", "fail")))).toBe(
      "failed: front page",
    ))
  test("counts what passed", () =>
    expect(summary(report(result("web-answers", "pass"), result("sign-in", "skip")))).toBe("1 of 2 passed"))
  test("tells of a site that could not be asked", () =>
    expect(summary(report(result("web-answers", "skip")))).toBe("not checked"))
})

describe("the strip", () => {
  const strip = (of?: SiteReport) => {
    queries.setQueryData(["checks"], checks)
    render(
      <QueryClientProvider client={queries}>
        <Strip report={of} />
      </QueryClientProvider>,
    )
  }

  test("has a cell for each check that the service has, in its order", () => {
    strip(report(result("front-page", "fail")))
    const cells = [...document.querySelectorAll<HTMLElement>("[data-check]")]
    expect(cells.map((c) => c.dataset.check)).toEqual(checks.map((c) => c.id))
    expect(cells[1].title).toBe("Front page failed: it said 500")
  })
  test("says its report to those who do not see it", () => {
    strip(report(result("web-answers", "pass")))
    expect(screen.getByRole("img", { name: "Report: 1 of 1 passed" })).toBeTruthy()
  })
})

test("groups of checks stand in the order of their checks", () =>
  expect(groupsOf(checks).map((g) => `${g.title} ${g.checks.length}`)).toEqual([
    "Address 2",
    "Administrator 1",
  ]))
