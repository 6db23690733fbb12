// Streams of events, as the service sends them.
import { request } from "./api"

// A browser allows few streams to one host, and keeps those of pages that it holds for its back button: they end with the page.
const streams = new Set<Stream>()
addEventListener("pagehide", () => streams.forEach((s) => s.close()))
addEventListener("pageshow", (event) => event.persisted && location.reload())

// Stream is a stream of events (text/event-stream, as the HTML standard has it) that is asked for with the session's secret, and again
// when it breaks.
export class Stream {
  private ended = new AbortController()
  private heard = new Map<string, (data: string) => void>()
  broken = () => {}
  // lost is called while nobody answers at all, found when somebody does again.
  lost = () => {}
  found = () => {}

  constructor(path: string) {
    streams.add(this)
    void this.follow(path)
  }

  on(event: string, hear: (data: string) => void) {
    this.heard.set(event, hear)
  }

  close() {
    streams.delete(this)
    this.ended.abort()
  }

  private async follow(path: string) {
    while (!this.ended.signal.aborted) {
      const response = await request(path, { signal: this.ended.signal }).catch(() => undefined)
      if (this.ended.signal.aborted) return
      if (response) this.found()
      else this.lost()
      if (response?.status === 401 || response?.status === 404) return
      if (response?.ok && response.body) await this.read(response.body).catch(() => {}) // it is asked for again
      if (this.ended.signal.aborted) return
      this.broken()
      await new Promise((again) => setTimeout(again, 1000))
    }
  }

  private async read(body: ReadableStream<Uint8Array>) {
    const reader = body.getReader()
    const decoder = new TextDecoder()
    for (let rest = ""; ;) {
      const { done, value } = await reader.read()
      if (done) return
      const events = (rest + decoder.decode(value, { stream: true })).split("\n\n")
      rest = events.pop() ?? ""
      for (const event of events) this.tell(event.split("\n"))
    }
  }

  private tell(lines: string[]) {
    const field = (name: string) =>
      lines.filter((l) => l.startsWith(name + ":")).map((l) => l.slice(name.length + 1).replace(/^ /, ""))
    const data = field("data")
    if (data.length > 0) this.heard.get(field("event")[0] ?? "message")?.(data.join("\n"))
  }
}

export const stream = (path: string) => new Stream(path)

// linesOf are the lines of JSON of an answer, as they come.
export async function* linesOf<T>(response: Response): AsyncGenerator<T> {
  const reader = response.body?.pipeThrough(new TextDecoderStream()).getReader()
  let rest = ""
  for (;;) {
    const part = await reader?.read()
    rest += part?.value ?? ""
    const lines = rest.split("\n")
    rest = lines.pop() ?? ""
    for (const line of lines) yield JSON.parse(line) as T
    if (!part || part.done) return
  }
}
