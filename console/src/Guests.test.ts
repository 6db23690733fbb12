import { expect, test } from "vitest"
import { left, may } from "./Guests"
import { asking } from "./InviteForm"

test("how long an invitation lasts is told as people say it", () => {
  const now = Date.parse("2026-11-29T12:00:00Z")
  expect(left("2026-11-29T12:05:20Z", now)).toBe("5 min")
  expect(left("2026-11-29T15:10:00Z", now)).toBe("3 h 10 min")
  expect(left("2026-12-06T12:00:00Z", now)).toBe("7 days")
  expect(left("2026-11-29T11:00:00Z", now)).toBe("0 min")
})

test("a form asks for what was chosen, and for nothing that was typed before and left", () => {
  const form = {
    seconds: 3600,
    kind: "all",
    only: "/shop/",
    password: "ripe-pears",
    open: false,
    note: "",
    place: "guests.example",
  }
  expect(asking(form)).toEqual({ seconds: 3600, password: "ripe-pears", relay: "guests.example" })
  expect(asking({ ...form, kind: "only", open: true, note: "for Ines" })).toEqual({
    seconds: 3600,
    only: "/shop/",
    open: true,
    note: "for Ines",
    relay: "guests.example",
  })
  expect(asking({ ...form, kind: "look", password: "", place: "lan eth0" })).toEqual({
    seconds: 3600,
    read_only: true,
    lan: "eth0",
  })
})

test("what guests may is one short phrase", () => {
  const i = { id: "a" } as Parameters<typeof may>[0]
  expect([
    may(i),
    may({ ...i, read_only: true }),
    may({ ...i, no_sign_in: true }),
    may({ ...i, only: "/a/" }),
  ]).toEqual(["do all that a visitor may", "look only", "do all but sign in", "see /a/ alone"])
})
