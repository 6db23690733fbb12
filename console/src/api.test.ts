import { afterEach, beforeEach, describe, expect, test, vi } from "vitest"
import { answer as answered, api, changeOf, Refusal, signIn, told, trialOf, type Operation } from "./api"
import { Stream } from "./stream"

const answers = vi.fn<typeof fetch>()
beforeEach(() => vi.stubGlobal("fetch", answers))
afterEach(() => {
  vi.unstubAllGlobals()
  answers.mockReset()
  localStorage.clear()
})
const says = (status: number, body: unknown) => new Response(JSON.stringify(body), { status })

describe("what the service refuses", () => {
  const problem = { field: "name", message: "is taken", remedy: "choose another" }

  test("is told with every remedy", async () => {
    answers.mockResolvedValue(says(422, { detail: "nothing was changed", errors: [problem, problem] }))
    const refused = await answered(api.POST("/api/v1/sites", { body: { sites: [] } })).catch(
      (e: unknown) => e,
    )
    expect(refused).toBeInstanceOf(Refusal)
    expect(told(refused)).toBe("is taken; choose another; is taken; choose another")
  })
  test("is told in its own words where there is no remedy", async () => {
    answers.mockResolvedValue(says(409, { detail: "busy" }))
    expect(
      told(await answered(api.POST("/api/v1/sites", { body: { sites: [] } })).catch((e: unknown) => e)),
    ).toBe("busy")
  })
  test("is how to start it where it does not answer", async () => {
    answers.mockRejectedValue(new TypeError("failed"))
    const gone = await answered(api.GET("/api/v1/sites")).catch((e: unknown) => e)
    expect(told(gone)).toContain("vessik serve")
    expect((gone as Refusal).status).toBe(0)
  })
})

describe("signing in", () => {
  test("takes the ticket out of the address and keeps the secret", async () => {
    history.replaceState(null, "", "/#ticket=once")
    answers.mockResolvedValue(says(200, { secret: "of this page" }))
    expect(await signIn()).toBe("signed in")
    expect(location.hash).toBe("")
    answers.mockResolvedValue(says(200, []))
    await answered(api.GET("/api/v1/sites"))
    expect((answers.mock.lastCall?.[0] as Request).headers.get("Authorization")).toBe("Bearer of this page")
  })
  test("tells that a ticket was used", async () => {
    history.replaceState(null, "", "/#ticket=once")
    answers.mockResolvedValue(says(401, {}))
    expect(await signIn()).toBe("used")
  })
  test("does nothing without one", async () => {
    expect(await signIn()).toBe("none")
    expect(answers).not.toHaveBeenCalled()
  })
})

test("details are those of the operation's kind", () => {
  const of = (kind: string) => ({ kind, details: { site: "fern" } }) as unknown as Operation
  expect([changeOf(of("restack"))?.site, changeOf(of("trial")), trialOf(of("trial"))?.site]).toEqual([
    "fern",
    undefined,
    "fern",
  ])
  expect(changeOf(undefined)).toBeUndefined()
})

describe("a stream of events", () => {
  const stream = (...chunks: string[]) => {
    const encoded = chunks.map((c) => new TextEncoder().encode(c))
    answers.mockResolvedValueOnce(
      new Response(
        new ReadableStream({
          start(controller) {
            encoded.forEach((c) => controller.enqueue(c))
            controller.close()
          },
        }),
      ),
    )
    answers.mockResolvedValue(says(404, {}))
  }

  test("is read however it is cut", async () => {
    stream("event: sites\nda", 'ta: {"a":1}\n\nevent: end', "\ndata: {}\n\n")
    const heard: string[] = []
    const source = new Stream("/events")
    source.on("sites", (data) => heard.push(data))
    source.on("end", () => source.close())
    await vi.waitFor(() => expect(heard).toEqual(['{"a":1}']))
  })
  test("says that it broke, and is asked for again", async () => {
    stream("event: sites\ndata: 1\n\n")
    const source = new Stream("/events")
    source.broken = vi.fn()
    await vi.waitFor(() => expect(source.broken).toHaveBeenCalled())
    await vi.waitFor(() => expect(answers).toHaveBeenCalledTimes(2), 3000)
    source.close()
  })
})
