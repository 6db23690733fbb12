import { QueryObserver } from "@tanstack/react-query"
import { describe, expect, test, vi } from "vitest"
import { queries, type Operation, type Site, type SiteReport, type Watched } from "./api"
import { hearSites, liveOf, merged, withOperation, withReports, withSites } from "./live"

type Part = Watched["sites"][number]
const part = (site: string, state: Part["state"], report?: SiteReport): Part => ({
  site,
  state,
  steps: [],
  report,
})
const report = (site: string): SiteReport => ({ site, passed: true, checks: [] })
const watched = (sites: Part[], rest: Partial<Watched> = {}): Watched => ({
  id: "7",
  kind: "new",
  state: "running",
  created_at: "2026-11-25T12:00:00Z",
  finished_at: null,
  sites,
  activity: {},
  version: 3,
  ...rest,
})
const site = (name: string, state: Site["state"] = "running") => ({ name, state }) as Site
const operation = (id: string, rest: Partial<Operation> = {}) =>
  ({ id, kind: "verify", state: "running", sites: [], ...rest }) as Operation

describe("an operation after a change", () => {
  const whole = watched([part("fern", "running"), part("moss", "running")], {
    details: { keep_copies: true },
    activity: { fern: { text: "waits", fraction: -1 }, moss: { text: "waits", fraction: -1 } },
  })

  test("is all of it at first", () => expect(merged(undefined, whole)).toBe(whole))
  test("keeps the parts that have not changed", () => {
    const next = merged(whole, watched([part("moss", "done")]))
    expect(next.sites.map((s) => s.site + " " + s.state)).toEqual(["fern running", "moss done"])
    expect(whole.sites[1].state).toBe("running")
  })
  test("keeps the order of its parts", () => {
    const next = merged(whole, watched([part("fern", "done"), part("reed", "running")]))
    expect(next.sites.map((s) => s.site)).toEqual(["fern", "moss", "reed"])
  })
  test("keeps what the others are doing", () =>
    expect(Object.keys(merged(whole, watched([part("moss", "done")])).activity)).toEqual(["fern"]))
  test("does nothing any more once it is over", () =>
    expect(merged(whole, watched([part("moss", "done")], { state: "done" })).activity).toEqual({}))
  test("keeps its details as long as none are told", () => {
    expect(merged(whole, watched([])).details).toEqual({ keep_copies: true })
    expect(merged(whole, watched([], { details: { keep_copies: false } })).details).toEqual({
      keep_copies: false,
    })
  })
})

describe("the fleet after a change", () => {
  const fleet = [site("fern"), site("moss")]

  test("has a new site in its place", () =>
    expect(withSites(fleet, { changed: [site("hazel")], gone: [] }).map((s) => s.name)).toEqual([
      "fern",
      "hazel",
      "moss",
    ]))
  test("shows a site as it is now", () =>
    expect(withSites(fleet, { changed: [site("moss", "stopped")], gone: [] })[1].state).toBe("stopped"))
  test("has no site that is gone", () =>
    expect(withSites(fleet, { changed: [], gone: ["fern", "never"] }).map((s) => s.name)).toEqual(["moss"]))
  test("shows one that was given another name once", () =>
    expect(withSites(fleet, { changed: [site("reed")], gone: ["moss"] }).map((s) => s.name)).toEqual([
      "fern",
      "reed",
    ]))
  test("leaves what was shown as it was", () => {
    withSites(fleet, { changed: [], gone: ["fern"] })
    expect(fleet).toHaveLength(2)
  })
})

describe("operations after one was begun or is over", () => {
  test("have the newest first, by number", () =>
    expect(withOperation([operation("9"), operation("2")], operation("10")).map((o) => o.id)).toEqual([
      "10",
      "9",
      "2",
    ]))
  test("have it once, as it is now", () => {
    const next = withOperation([operation("9")], operation("9", { state: "done" }))
    expect(next.map((o) => o.state)).toEqual(["done"])
  })
  test("are not more and more", () => {
    let all: Operation[] = []
    for (let id = 1; id <= 80; id++) all = withOperation(all, operation(String(id)))
    expect(all).toHaveLength(50)
    expect(all[49].id).toBe("31")
  })
})

describe("reports after an operation", () => {
  test("are those of the parts that are over", () => {
    const o = operation("7", {
      sites: [part("fern", "done", report("fern")), part("moss", "running", report("moss"))],
    })
    expect([...withReports(new Map(), o).keys()]).toEqual(["fern"])
  })
  test("stay where there is no other", () => {
    const before = new Map([["fern", report("fern")]])
    expect(withReports(before, operation("7", { sites: [part("fern", "failed")] })).get("fern")).toBe(
      before.get("fern"),
    )
  })
  test("go by the name that the site has now", () =>
    expect([
      ...withReports(new Map(), operation("7", { sites: [part("moss", "done", report("reed"))] })).keys(),
    ]).toEqual(["reed"]))
})

describe("what an operation says of its sites", () => {
  test("is of those that it still works on", () =>
    expect([...liveOf(watched([part("fern", "done"), part("moss", "running")])).keys()]).toEqual(["moss"]))
  test("is that they wait, until something is said", () => {
    const live = liveOf(
      watched([part("fern", "running"), part("moss", "running")], {
        activity: { moss: { text: "loading content", fraction: 0.5 } },
      }),
    )
    expect([live.get("fern")?.text, live.get("moss")?.text]).toEqual(["waiting", "loading content"])
  })
})

test("an answer that is older than what was heard meanwhile does not stay", async () => {
  const stopping = site("moss", "stopping")
  const stopped = site("moss", "stopped")
  const answers: ((sites: Site[]) => void)[] = []
  const asked = new QueryObserver<Site[]>(queries, {
    queryKey: ["sites"],
    queryFn: () => new Promise<Site[]>((answered) => answers.push(answered)),
    initialData: [stopping],
    staleTime: 0,
  })
  const end = asked.subscribe(() => {})
  await vi.waitFor(() => expect(answers).toHaveLength(1))
  hearSites({ changed: [stopped], gone: [] })
  await vi.waitFor(() => expect(answers).toHaveLength(2))
  answers[0]([stopping])
  answers[1]([stopped])
  await vi.waitFor(() => expect(queries.isFetching()).toBe(0))
  expect(queries.getQueryData(["sites"])).toEqual([stopped])
  end()
})
