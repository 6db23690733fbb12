import { QueryClientProvider } from "@tanstack/react-query"
import { cleanup, fireEvent, render, screen } from "@testing-library/react"
import { afterEach, beforeEach, describe, expect, test } from "vitest"
import { pushOf, queries, type Account, type HostChecks, type Operation, type Pushed } from "./api"
import { Elsewhere, Numbers } from "./Elsewhere"
import { Environments } from "./HostPage"
import { Checks, HostingPage } from "./Hosting"
import { Planned, Result, timeLeft } from "./Moving"

const account = (name: string, more: Partial<Account> = {}): Account => ({
  name,
  at: `sftp://ines@host.example/${name}`,
  url: `https://${name}.example`,
  made_at: "2026-11-29T06:00:00Z",
  sign_in: "password",
  ...more,
})

const planned = (more: Partial<Pushed> = {}): Pushed => ({
  account: "orchard-live",
  site: "orchard-days",
  files: [],
  tables: [],
  new: 0,
  changed: 0,
  gone: 0,
  bytes: 0,
  stays: 0,
  conflicts: 0,
  ...more,
})

const known = (accounts: Account[]) => queries.setQueryData(["accounts"], accounts)
const shown = (page: React.ReactNode) =>
  render(<QueryClientProvider client={queries}>{page}</QueryClientProvider>)

beforeEach(() => {
  queries.setDefaultOptions({ queries: { staleTime: Infinity, retry: false } })
  queries.setQueryData(["sites"], [])
  queries.setQueryData(["operations"], [])
})
afterEach(() => {
  cleanup()
  queries.clear()
})

describe("the accounts", () => {
  test("are asked for where there is none", () => {
    known([])
    shown(<HostingPage />)
    expect(screen.getByText("There is no hosting account yet.")).toBeTruthy()
    expect(screen.getByRole<HTMLButtonElement>("button", { name: "Add the account" }).disabled).toBe(true)
  })
  test("can be added once it is said where they are", () => {
    known([])
    shown(<HostingPage />)
    for (const [label, value] of [
      ["Name", "orchard-live"],
      ["Where the folder is", "sftp://ines@host.example/www"],
      ["Address at which its folder is served", "https://orchard.example"],
    ])
      fireEvent.change(screen.getByLabelText(label), { target: { value } })
    expect(screen.getByRole<HTMLButtonElement>("button", { name: "Add the account" }).disabled).toBe(false)
  })
  test("tell what may be left at their host", () => {
    known([account("orchard-live", { leftover: "move-x.php" })])
    shown(<HostingPage />)
    expect(screen.getByText(/move-x\.php/)).toBeTruthy()
    expect(screen.getByText("not fetched yet")).toBeTruthy()
  })
  test("are forgotten when it was asked for twice", () => {
    known([account("orchard-live")])
    shown(<HostingPage />)
    expect(screen.queryByText("forget it, the host keeps its site")).toBeNull()
    fireEvent.click(screen.getByText("Forget it…"))
    expect(screen.getByText("forget it, the host keeps its site")).toBeTruthy()
  })
  test("offer another host key only where one is pinned", () => {
    known([account("orchard-live"), account("orchard-ftp", { fingerprint: "SHA256:x" })])
    shown(<HostingPage />)
    expect(screen.getAllByText("Take another host key…")).toHaveLength(1)
  })
})

describe("a host's page", () => {
  const said = (more: object) => ({
    id: "1",
    page: "https://host.example",
    state: "done" as const,
    code: "BCDF-GHJK",
    address: "https://host.example/device",
    until: "2026-11-29T06:00:00Z",
    environments: [],
    ...more,
  })
  test("is asked for by its address", () => {
    known([])
    shown(<HostingPage />)
    const button = screen.getByRole<HTMLButtonElement>("button", { name: "Ask for a code" })
    expect(button.disabled).toBe(true)
    fireEvent.change(screen.getByLabelText("Address of the account page"), { target: { value: "https://h" } })
    expect(button.disabled).toBe(false)
  })
  test("tells environments, of which some are added", () => {
    const environment = (name: string) => ({ name, kind: "live", url: "https://x", at: "sftp://a@b/" })
    const environments = [environment("a"), environment("b")]
    render(<Environments said={said({ environments })} act={async () => undefined} />)
    expect(screen.getByRole("button", { name: "Add 2 accounts" })).toBeTruthy()
    fireEvent.click(screen.getAllByRole("checkbox")[0])
    expect(screen.getByRole("button", { name: "Add 1 account" })).toBeTruthy()
    cleanup()
    render(<Environments said={said({})} act={async () => undefined} />)
    expect(screen.getByText("The host tells no site of yours.")).toBeTruthy()
  })
})

describe("a pull", () => {
  test("says what it would do to a site that is there", () => {
    known([account("orchard-live")])
    queries.setQueryData(["sites"], [{ name: "orchard-days" }])
    shown(<HostingPage />)
    fireEvent.click(screen.getByText("Pull…"))
    const site = screen.getByLabelText("Site that it is to be")
    fireEvent.change(site, { target: { value: "orchard-new" } })
    expect(screen.getByRole("button", { name: "Make orchard-new of it" })).toBeTruthy()
    fireEvent.change(site, { target: { value: "orchard-days" } })
    expect(screen.getByRole("button", { name: "Put the host’s into orchard-days" })).toBeTruthy()
    expect(screen.getByText(/stays in a restore\s+point/)).toBeTruthy()
  })
  test("over a site says what it takes the place of", () => {
    const tables = [{ name: "k_posts", new: 2, gone: 0 }]
    const found = { files: 9, file_bytes: 1, new: 0, changed: 0, gone: 0, carry_bytes: 0, carried: 0 }
    render(<Result found={{ ...found, replaces: { files: 3, names: ["a.txt", "b.txt"], tables } }} />)
    expect(screen.getByText(/a\.txt, b\.txt, and 1 more files, 2 rows of k_posts/)).toBeTruthy()
    cleanup()
    render(<Result found={{ ...found, replaces: { files: 0, names: [], tables: [] } }} />)
    expect(screen.queryByText(/Changed here/)).toBeNull()
  })
  test("and a push begin with the site that was moved last", () => {
    known([account("orchard-live", { site: "orchard-days" })])
    shown(<HostingPage />)
    fireEvent.click(screen.getByText("Push…"))
    expect(screen.getByLabelText<HTMLInputElement>("Site whose changes go there").value).toBe("orchard-days")
    expect(screen.getByRole("button", { name: "What would be pushed?" })).toBeTruthy()
  })
})

describe("what would be pushed", () => {
  test("names files and tables, and what would be lost", () => {
    render(
      <Planned
        planned={planned({
          new: 1,
          gone: 1,
          stays: 2,
          stays_tables: ["k_users"],
          files: [
            { path: "a.txt", what: "new", bytes: 1 },
            { path: "b.txt", what: "gone", bytes: 0, conflict: true },
          ],
          tables: [{ name: "k_posts", new: 3, gone: 2, lost: 1 }],
          warnings: ["the host's PHP is 7.4"],
        })}
      />,
    )
    expect(screen.getAllByRole("listitem")).toHaveLength(3)
    expect(screen.getByText(/changed at the host as well/).closest("li")?.textContent).toContain("b.txt")
    expect(screen.getByText(/1 changed at the host would be lost/).closest("li")?.textContent).toContain(
      "k_posts",
    )
    expect(screen.getByText(/2 files of the host’s own stay.*k_users stay/)).toBeTruthy()
    expect(screen.getByText("→ the host's PHP is 7.4")).toBeTruthy()
  })
  test("is counted where it is much", () => {
    const files = Array.from({ length: 40 }, (_, i) => ({
      path: `f${i}.txt`,
      what: "new" as const,
      bytes: 1,
    }))
    render(<Planned planned={planned({ new: 40, files })} />)
    expect(screen.getByText("and 10 more files")).toBeTruthy()
    expect(screen.queryByText("f35.txt")).toBeNull()
  })
})

describe("what is looked at", () => {
  test("says what to do where something is amiss", () => {
    const found: HostChecks = {
      account: "orchard-live",
      passed: false,
      checks: [
        { id: "reached", title: "the host is reached", passed: true, observed: "host.example" },
        {
          id: "signed-in",
          title: "the user is let in",
          passed: false,
          observed: "no",
          remedy: "see the password",
        },
      ],
    }
    render(<Checks found={found} />)
    const [reached, refused] = screen.getAllByRole("listitem")
    expect(reached.textContent).toContain("pass")
    expect(refused.textContent).toContain("fail")
    expect(refused.textContent).toContain("→ see the password")
  })
})

describe("where else a site lives", () => {
  test("is a line from here over staging to the live one", () => {
    known([
      account("orchard-live", { site: "orchard-days" }),
      account("orchard-staging", { site: "orchard-days", of: "orchard-live" }),
      account("moss-live", { site: "moss" }),
    ])
    shown(<Elsewhere name="orchard-days" />)
    expect(screen.getAllByRole("link").map((a) => a.getAttribute("href"))).toEqual([
      "/hosting",
      "https://orchard-staging.example",
      "/hosting",
      "https://orchard-live.example",
    ])
    expect(screen.getAllByRole("listitem").map((li) => li.textContent?.slice(0, 15))).toEqual([
      "here",
      "orchard-staging",
      "orchard-livehtt",
    ])
    expect(screen.getAllByText("What differs now?")).toHaveLength(2)
  })
  test("offers to take back only a push that stood and was not taken back", () => {
    const push = (details: unknown, state = "done") => ({
      id: "1",
      kind: "push-account",
      state,
      created_at: "2026-11-29T06:00:00Z",
      sites: [{ site: "account orchard-live" }],
      details,
    })
    known([account("orchard-live", { site: "orchard-days" })])
    const file = { path: "a.txt", what: "new", bytes: 1 }
    const pushed = push({ asked: {}, result: planned({ new: 1, files: [file as never] }) })
    for (const [operations, offered] of [
      [[push({ asked: { dry_run: true }, result: planned({ new: 1, files: [file as never] }) })], 0],
      [[push({ asked: {}, result: planned() }), pushed], 1],
      [[push(pushed.details, "failed"), pushed], 1],
      [[push({ back: true, asked: {} }), pushed], 0],
    ] as const) {
      queries.setQueryData(["operations"], operations)
      shown(<Elsewhere name="orchard-days" />)
      expect(screen.queryAllByText("Take the last push back…")).toHaveLength(offered)
      cleanup()
    }
  })
  test("tells in numbers what differs", () => {
    const told = (p: Partial<Pushed>) => render(<Numbers of={planned(p)} />).container.textContent
    expect(told({})).toBe("Nothing differs.")
    expect(told({ new: 1, gone: 1, stays: 3, stays_tables: ["k_users"] })).toBe(
      "2 files and 0 tables would go there; 3 files and 1 table are the host’s own.",
    )
    expect(told({ tables: [{ name: "k_posts", new: 1, gone: 0 }], conflicts: 2 })).toContain(
      "1 table would go there; 0 files and 0 tables are the host’s own; 2 changed on both sides",
    )
  })
  test("tells how long it will take yet", () => {
    expect(timeLeft(500, 0.5, 0.5)).toBe("")
    expect(timeLeft(5000, 0, 1)).toBe("")
    expect(timeLeft(9000, 0.9, 0.1)).toBe("a few seconds left")
    expect(timeLeft(10_000, 0.25, 0.75)).toBe("about 30 seconds left")
    expect(timeLeft(60_000, 0.25, 0.75)).toBe("about 3 minutes left")
  })
  test("is nothing for a site that was never moved", () => {
    known([account("orchard-live")])
    const page = shown(<Elsewhere name="orchard-days" />)
    expect(page.container.textContent).toBe("")
  })
  test("and a push belongs to its history", () => {
    const operation = (kind: string, details?: unknown) => ({ kind, details }) as Operation
    expect(pushOf(operation("push-account", { asked: { site: "orchard-days" } }))).toBe("orchard-days")
    expect(pushOf(operation("push-account"))).toBeUndefined()
    expect(pushOf(operation("restack", { asked: { site: "orchard-days" } }))).toBeUndefined()
  })
})
