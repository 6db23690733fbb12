// The fleet's order and filter.
import { expect, test } from "vitest"
import type { Site, SiteReport } from "./api"
import { fitting } from "./Fleet"

const site = (name: string, more: Partial<Site> = {}) =>
  ({
    name,
    title: name,
    domain: `${name}.localhost`,
    state: "running",
    group: "",
    note: "",
    pinned: false,
    stack: {
      php: { engine: "php-8.4" },
      web: { engine: "nginx-1.26" },
      database: { engine: "mariadb-11.8" },
    },
    cms: { name: "wordpress", version: "6.8" },
    administrator: { name: "ines" },
    ...more,
  }) as Site
const reports = new Map<string, SiteReport>([
  ["moss", { site: "moss", passed: false, checks: [] } as unknown as SiteReport],
])
const order = { by: "site", down: false } as const
const names = (sites: Site[], filter = "") => fitting(sites, reports, filter, order).map((s) => s.name)

test("what fails comes first, then the pinned, then by group and name", () => {
  const sites = [
    site("apple", { group: "Trees" }),
    site("brook"),
    site("fern", { pinned: true }),
    site("moss", { group: "Wet" }),
    site("oak", { group: "Trees" }),
    site("zinnia", { state: "failed" }),
  ]
  expect(names(sites)).toEqual(["moss", "zinnia", "fern", "apple", "oak", "brook"])
})

test("a stopped site does not fail, whatever its last report says", () => {
  expect(names([site("apple"), site("moss", { state: "stopped" })])).toEqual(["apple", "moss"])
})

test("a filter has every word somewhere", () => {
  const sites = [site("apple", { group: "Trees" }), site("oak", { group: "Trees", state: "stopped" })]
  expect(names(sites, "trees stop")).toEqual(["oak"])
  expect(names(sites, "NGINX tree")).toEqual(["apple", "oak"])
  expect(names(sites, "moss")).toEqual([])
})
